/// Folders that appear whole, or not at all.

#include "base/output.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstdio>
#include <utility>
#include <vector>

#include "base/output_names.hpp"

namespace wexlo {
namespace fs = std::filesystem;
using namespace output;

namespace {

/// Nothing is there, or a folder that Wexlo made.
Status check_replaceable(const fs::path& target, const std::string& marker) {
  std::error_code ignored;
  const auto status = fs::symlink_status(target, ignored);
  if (!fs::exists(status)) return {};
  if (fs::is_directory(status) && fs::exists(target / marker, ignored)) return {};
  return fail(exists_error(
      target, fs::is_directory(status)
                  ? fmt::format("It holds no {}, so it is not replaced even with --force: give "
                                "another name.",
                                marker)
                  : std::string("It is not a folder, so it is not replaced even with --force: "
                                "give another name.")));
}

}  // namespace

Result<OutputFolder> OutputFolder::create(const fs::path& target_name, Overwrite overwrite,
                                          std::string marker) {
  const fs::path target = without_slash(target_name);
  sweep(target);
  WEXLO_CHECK(check_absent(target, overwrite));
  WEXLO_CHECK(check_replaceable(target, marker));
  WEXLO_TRY(MadeFolders folders, MadeFolders::above(target));
  auto temporary = temporary_beside(target, kPartial);
  if (::mkdir(temporary.c_str(), 0777) != 0)
    return fail(io_error(errno, "cannot make the folder", target.string()));
  const int fd = lock(temporary, O_DIRECTORY);
  return OutputFolder(std::move(folders), target, std::move(temporary), std::move(marker),
                      overwrite, fd);
}

OutputFolder::OutputFolder(OutputFolder&& other) noexcept
    : folders_(std::move(other.folders_)),
      target_(std::move(other.target_)),
      temporary_(std::exchange(other.temporary_, {})),
      marker_(std::move(other.marker_)),
      overwrite_(other.overwrite_),
      lock_(std::exchange(other.lock_, -1)) {}

OutputFolder::~OutputFolder() {
  if (lock_ >= 0) ::close(lock_);
  if (!temporary_.empty()) remove_tree(temporary_);
}

Status OutputFolder::flush() const {
  // One flush of the file system is cheaper than many of files; it may also wait for others' files.
  constexpr std::size_t kMany = 64;
  std::error_code error;
  std::vector<fs::path> files;
  fs::recursive_directory_iterator at(temporary_, error);
  for (; !error && at != fs::recursive_directory_iterator(); at.increment(error)) {
    const bool regular = at->is_regular_file(error);
    if (error) break;
    if (regular) files.push_back(at->path());
    if (files.size() <= kMany) continue;
    const int fd = ::open(temporary_.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (fd < 0) return fail(io_error(errno, "cannot open", temporary_.string()));
    const bool bad = ::syncfs(fd) != 0;
    const int why = errno;
    ::close(fd);
    if (bad) return fail(io_error(why, "cannot flush", temporary_.string()));
    return {};
  }
  // A folder that cannot be walked is one whose files nobody flushed.
  if (error) return fail(io_error(error.value(), "cannot read the folder", temporary_.string()));
  for (const fs::path& file : files)
    WEXLO_CHECK(sync_path(file, 0));
  return {};
}

Error OutputFolder::with_final_name(Error error) const {
  const std::string temporary = temporary_.string();
  if (error.file.starts_with(temporary)) error.file.replace(0, temporary.size(), target_.string());
  return error;
}

Status OutputFolder::commit() {
  if (auto flushed = flush(); !flushed) return fail(with_final_name(std::move(flushed).error()));
  std::error_code ignored;
  if (!fs::exists(fs::symlink_status(target_, ignored))) {
    if (rename_new(temporary_, target_) == 0) {
      temporary_.clear();
      folders_.keep();
      return sync_path(target_.parent_path(), O_DIRECTORY);
    }
    if (errno != EEXIST && errno != ENOTEMPTY)
      return fail(io_error(errno, "cannot write", target_.string()));
  }
  // Something is there, or appeared while this run worked: another run's folder, or somebody's.
  WEXLO_CHECK(check_absent(target_, overwrite_));
  WEXLO_CHECK(check_replaceable(target_, marker_));
  WEXLO_CHECK(replace());
  return sync_path(target_.parent_path(), O_DIRECTORY);
}

Status OutputFolder::replace() {
  if (::renameat2(AT_FDCWD, temporary_.c_str(), AT_FDCWD, target_.c_str(), RENAME_EXCHANGE) == 0) {
    // The old folder now has the temporary name, and goes when this object does. Another one may
    // have taken its place between the look and the exchange: then all goes back.
    if (check_replaceable(temporary_, marker_)) return {};
    if (::renameat2(AT_FDCWD, temporary_.c_str(), AT_FDCWD, target_.c_str(), RENAME_EXCHANGE) != 0)
      temporary_.clear();  // somebody's folder: better left under a strange name than removed
    return fail(exists_error(target_, "It was put there just now: give another name."));
  }
  if (errno != EINVAL && errno != ENOSYS && errno != ENOTSUP)
    return fail(io_error(errno, "cannot replace", target_.string()));
  // In two steps: a run killed between them leaves the old folder aside, and the next one for the
  // same target puts it back.
  const fs::path before = temporary_beside(target_, kBefore);
  if (std::rename(target_.c_str(), before.c_str()) != 0)
    return fail(io_error(errno, "cannot replace", target_.string()));
  if (rename_new(temporary_, target_) != 0) {
    const int why = errno;
    (void)rename_new(before, target_);
    return fail(io_error(why, "cannot replace", target_.string()));
  }
  temporary_ = before;  // goes when this object does
  return {};
}

}  // namespace wexlo
