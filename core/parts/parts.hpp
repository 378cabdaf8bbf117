#pragma once
/// An image taken apart into a folder, and put back: docs/formats/parts.md.
/// `parts.toml` has what is needed to rebuild; each part is a file; a ramdisk is a tree besides.

#include <filesystem>
#include <string>
#include <vector>

#include "base/output.hpp"
#include "firmware/formats.hpp"
#include "parts/tree.hpp"

namespace wexlo::parts {

inline constexpr std::string_view kManifest = "parts.toml";

struct PartRow {
  std::string name, file;
  std::uint64_t size = 0;
  std::string compression;  ///< ramdisks, kernels, packed device trees; else empty
  std::string tree;         ///< name of its folder; empty when the part is only a file
  std::string note;         ///< why it has no tree, where one might expect it
  std::string label;        ///< device trees: model and compatible
};

struct Unpacked {
  std::string kind;
  std::vector<PartRow> parts;
};

/// Errors: those of load_image, write_tree and OutputFolder.
[[nodiscard]] Result<Unpacked> unpack(const LoadedImage& image, const std::filesystem::path& folder,
                                      Overwrite overwrite, const Context& context = {});

struct Change {
  std::string part, what, place, detail;
};

struct Repacked {
  Blob bytes;
  std::string sha256;           ///< of the bytes, lower-case hex
  std::vector<Change> changes;  ///< empty: the bytes are the stock image's
  std::vector<std::string> notes;
  std::vector<std::string> renewed;      ///< digests that were made again: clauses
  std::vector<std::string> not_covered;  ///< what still speaks of the stock image: sentences
};

/// Rebuilds the image that a parts folder describes; nothing is written.
/// Errors: BadMagic (no parts folder), BadValue (parts.toml, with its line), NotFound (a part's
/// file), Unsupported (another format version), DigestMismatch (a stored ramdisk or header that
/// is not the one unpacked; both a part and a piece of it edited), DoesNotFit, and those of
/// apply_tree.
[[nodiscard]] Result<Repacked> repack(const std::filesystem::path& folder,
                                      const Context& context = {});

}  // namespace wexlo::parts
