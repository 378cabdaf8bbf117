#include "base/output_names.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>
#include <charconv>
#include <csignal>
#include <cstdio>
#include <utility>
#include <vector>

namespace wexlo {

void remove_tree(const std::filesystem::path& path) {
  if (::unlink(path.c_str()) == 0) return;  // it was a file
  std::error_code ignored;
  std::vector<std::filesystem::path> folders;
  {
    std::filesystem::directory_iterator at(path, ignored);
    for (; !ignored && at != std::filesystem::directory_iterator(); at.increment(ignored)) {
      std::error_code unknown;
      if (at->symlink_status(unknown).type() == std::filesystem::file_type::directory)
        folders.push_back(at->path());
      else
        ::unlink(at->path().c_str());
    }
  }
  for (const std::filesystem::path& one : folders)
    remove_tree(one);
  ::rmdir(path.c_str());
}

}  // namespace wexlo

namespace wexlo::output {
namespace fs = std::filesystem;
namespace {

/// Folders and files beside `target` that a run which no longer lives named so.
std::vector<fs::path> left_behind(const fs::path& target, std::string_view ending) {
  const std::string begin = fmt::format(".{}.", target.filename().string());
  const fs::path folder = target.parent_path().empty() ? fs::path(".") : target.parent_path();
  std::error_code ignored;
  std::vector<fs::path> left;
  for (const auto& entry : fs::directory_iterator(folder, ignored)) {
    const std::string name = entry.path().filename().string();
    if (!name.starts_with(begin) || !name.ends_with(ending)) continue;
    int owner = 0;
    const char* digits = name.data() + begin.size();
    const auto [end, bad] = std::from_chars(digits, name.data() + name.size(), owner);
    if (bad != std::errc() || *end != '-' || owner <= 0) continue;
    if (::kill(owner, 0) == 0 || errno != ESRCH) continue;
    left.push_back(entry.path());
  }
  return left;
}

}  // namespace

fs::path temporary_beside(const fs::path& target, std::string_view ending) {
  static std::atomic<unsigned> counter = 0;
  return target.parent_path() /
         fmt::format(".{}.{}-{}{}", target.filename().string(), ::getpid(), counter++, ending);
}

fs::path without_slash(const fs::path& target) {
  const fs::path normal = target.lexically_normal();
  return normal.has_filename() ? normal : normal.parent_path();
}

int lock(const fs::path& path, int flags) {
  const int fd = ::open(path.c_str(), flags | O_RDONLY | O_CLOEXEC | O_NOFOLLOW);
  if (fd >= 0 && ::flock(fd, LOCK_EX | LOCK_NB) == 0) return fd;
  if (fd >= 0) ::close(fd);
  return -1;
}

void sweep(const fs::path& target) {
  std::error_code ignored;
  for (const fs::path& one : left_behind(target, kPartial)) {
    const int fd = lock(one, 0);
    if (fd < 0) continue;
    remove_tree(one);
    ::close(fd);
  }
  // A run that was killed between the two halves of a replacement: the old folder comes back.
  for (const fs::path& one : left_behind(target, kBefore)) {
    if (fs::exists(fs::symlink_status(target, ignored)))
      remove_tree(one);
    else
      fs::rename(one, target, ignored);
  }
}

Error exists_error(const fs::path& target, std::string hint) {
  return {.code = ErrorCode::Exists,
          .message = "the output is there already",
          .file = target.string(),
          .hint = std::move(hint)};
}

Status sync_path(const fs::path& path, int flags) {
  const int fd = ::open(path.empty() ? "." : path.c_str(), flags | O_RDONLY | O_CLOEXEC);
  if (fd < 0) return fail(io_error(errno, "cannot open", path.string()));
  // Some file systems cannot sync a folder (EINVAL); the rename itself is done either way.
  const bool bad = ::fsync(fd) != 0 && errno != EINVAL && errno != EROFS;
  const int why = errno;
  ::close(fd);
  if (bad) return fail(io_error(why, "cannot flush", path.string()));
  return {};
}

int rename_new(const fs::path& from, const fs::path& to) {
  if (::renameat2(AT_FDCWD, from.c_str(), AT_FDCWD, to.c_str(), RENAME_NOREPLACE) == 0) return 0;
  if (errno != EINVAL && errno != ENOSYS) return -1;
  struct stat info {};
  if (::lstat(from.c_str(), &info) == 0 && S_ISDIR(info.st_mode)) {
    // An empty folder takes the name, or fails where something has it; it may be replaced.
    if (::mkdir(to.c_str(), 0777) != 0) return -1;
    if (std::rename(from.c_str(), to.c_str()) == 0) return 0;
    const int why = errno;
    ::rmdir(to.c_str());
    errno = why;
    return -1;
  }
  if (::link(from.c_str(), to.c_str()) == 0) return ::unlink(from.c_str());
  if (errno == EEXIST) return -1;
  // No links either: what appears in this very moment would be replaced.
  if (::lstat(to.c_str(), &info) == 0) {
    errno = EEXIST;
    return -1;
  }
  return std::rename(from.c_str(), to.c_str());
}

}  // namespace wexlo::output
