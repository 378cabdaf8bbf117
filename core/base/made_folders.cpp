#include "base/made_folders.hpp"

#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <ranges>

namespace wexlo {
namespace fs = std::filesystem;

Result<MadeFolders> MadeFolders::make(const fs::path& folder) {
  std::vector<fs::path> missing;
  std::error_code error;
  for (fs::path at = folder; !at.empty(); at = at.parent_path()) {
    const auto status = fs::status(at, error);
    if (fs::is_directory(status)) break;
    if (fs::exists(status))
      return fail({.code = ErrorCode::Exists,
                   .message = "a folder is wanted here, and there is a file of this name",
                   .file = at.string(),
                   .hint = "Give another name."});
    // A file above it says "not a directory": it is looked at in its turn.
    if (!at.filename().empty()) missing.push_back(at);
    if (at == at.parent_path()) break;
  }
  MadeFolders out;
  for (const fs::path& one : std::views::reverse(missing)) {
    if (::mkdir(one.c_str(), 0777) == 0) {
      out.made_.push_back(one);
    } else if (errno != EEXIST) {
      Error why = io_error(errno, "cannot make the folder", one.string());
      if (why.code == ErrorCode::NotFound)
        why.hint = "Nothing can be made there: give another place.";
      return fail(std::move(why));
    }
  }
  return out;
}

Result<MadeFolders> MadeFolders::above(const fs::path& target) {
  return make(target.parent_path());
}

MadeFolders::~MadeFolders() {
  std::error_code ignored;
  for (const fs::path& one : std::views::reverse(made_))
    fs::remove(one, ignored);  // only an empty one goes
}

}  // namespace wexlo
