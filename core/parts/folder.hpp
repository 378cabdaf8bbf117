#pragma once
/// A parts folder as its parts.toml describes it: docs/formats/parts.md.

#include <array>
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "base/digest.hpp"
#include "image/device_tree.hpp"
#include "parts/fields.hpp"

namespace wexlo::parts {

struct FolderDtb {
  std::size_t index = 0;  ///< among the part's device trees
  std::string file, sha256, model;
};

/// A ramdisk of a part: the part itself, or one fragment of it.
struct FolderTree {
  std::size_t index = 0;
  bool in_table = false;
  std::string name;  ///< the three are vendor_boot's table's
  std::uint32_t type = 0;
  std::array<std::uint32_t, 16> board_id{};
  std::string tree, list;             ///< empty: kept as a file
  std::vector<std::string> encoders;  ///< one for each stream
};

struct FolderPart {
  std::string name, file_name, sha256;
  std::uint64_t stock_size = 0;
  Blob bytes, padding;  ///< as the files are now
  bool changed = false;
  std::vector<FolderTree> trees;
  std::vector<FolderDtb> dtbs;
  std::uint64_t trees_at = 0;            ///< where the device trees begin in the part
  std::string plain_file, plain_sha256;  ///< the kernel as it runs; empty: it is the part itself
};

struct FolderFacts {
  std::filesystem::path folder;
  std::string image_sha256, header_sha256;
  std::optional<DigestKind> id_digest;
  bool has_header = false, header_changed = false;
  Blob prefix, header, tail;
  std::vector<FieldText> fields;  ///< [header]
  std::vector<FolderPart> parts;

  [[nodiscard]] std::string file() const;  ///< parts.toml's path, for errors
  /// A file of the folder; a name with a path in it is not followed. Errors: BadValue, Io.
  [[nodiscard]] Result<Blob> member(const std::string& name) const;
  /// The image's bytes as the files are. @param blank  for changed parts, zeros of the stock size
  [[nodiscard]] Bytes assembled(bool blank) const;
  /// Fills in which parts are no longer the stock ones.
  [[nodiscard]] Status find_changed();
};

/// Errors: BadValue (parts.toml, with its line), NotFound (a part's file), Unsupported (another
/// format version).
[[nodiscard]] Result<FolderFacts> read_folder(const std::filesystem::path& folder);

}  // namespace wexlo::parts
