#pragma once
/// The files that a recipe brings along: from its folder, or out of an archive there
/// (`pack.zip!/lib/arm64/name`).

#include <filesystem>
#include <map>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "base/bytes.hpp"

namespace wexlo {

struct NamedFile {
  std::string path;  ///< parted by '/', relative
  Blob content;
};

struct FileRef;

/// Where the files of recipes are looked for.
class FileStore {
 public:
  virtual ~FileStore() = default;
  /// Errors: NotFound, those of opening and reading.
  [[nodiscard]] virtual Result<Blob> read(const FileRef& file) const = 0;
  /// All files below a folder, sorted by path.
  [[nodiscard]] virtual Result<std::vector<NamedFile>> tree(const FileRef& file) const = 0;
};
using FileStorePtr = std::shared_ptr<const FileStore>;

/// A folder on the disk; an absolute path stands for itself.
[[nodiscard]] FileStorePtr files_beside(const std::filesystem::path& folder);

/// What an edit brings along. It is bound once all values in its name are known.
struct FileRef {
  std::string spelled;         ///< as the recipe has it: the same on every machine
  std::string named;           ///< the same, with what is known of the phone filled in
  std::string from;            ///< parameters and known values filled in
  std::string shown;           ///< for people: no folders of this machine
  std::set<std::string> open;  ///< values in its name that are not known yet
  bool is_tree = false;
  FileStorePtr store{};
  bool bound = false;
  /// Why it did not read together with its recipe: told once an edit wants it.
  std::optional<Error> missing{};
  std::vector<NamedFile> files;  ///< one, unless it is a tree

  /// Reads the files. Errors: NotFound (with what the archive has instead), BadValue (a tree
  /// without a file), LimitExceeded.
  [[nodiscard]] Status bind();
  [[nodiscard]] View content() const { return files.front().content.view(); }
  [[nodiscard]] const Blob& blob() const { return files.front().content; }
  [[nodiscard]] std::string digest() const;  ///< over names and contents, hex
};

}  // namespace wexlo
