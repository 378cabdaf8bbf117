#include "base/output.hpp"

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

namespace wexlo {
namespace fs = std::filesystem;
namespace {

/// A name beside `target` that no other run uses; the leading dot keeps it out of `*.img`.
fs::path temporary_beside(const fs::path& target) {
  static std::atomic<unsigned> counter = 0;
  return target.parent_path() /
         fmt::format(".{}.{}-{}.partial", target.filename().string(), ::getpid(), counter++);
}

/// `dir/` and `dir/.` name the folder `dir`: a temporary has to stand beside it, not inside.
fs::path without_slash(const fs::path& target) {
  const fs::path normal = target.lexically_normal();
  return normal.has_filename() ? normal : normal.parent_path();
}

/// Held as long as its owner lives: who gets it on a temporary knows that nobody works on it.
int lock(const fs::path& path, int flags) {
  const int fd = ::open(path.c_str(), flags | O_RDONLY | O_CLOEXEC | O_NOFOLLOW);
  if (fd >= 0 && ::flock(fd, LOCK_EX | LOCK_NB) == 0) return fd;
  if (fd >= 0) ::close(fd);
  return -1;
}

/// What a killed run left behind for the same target. One that lives holds a lock; one on another
/// machine may, too, and its number says nothing here.
void sweep(const fs::path& target) {
  const std::string begin = fmt::format(".{}.", target.filename().string());
  constexpr std::string_view kEnd = ".partial";
  const fs::path folder = target.parent_path().empty() ? fs::path(".") : target.parent_path();
  std::error_code ignored;
  std::vector<fs::path> left;
  for (const auto& entry : fs::directory_iterator(folder, ignored)) {
    const std::string name = entry.path().filename().string();
    if (!name.starts_with(begin) || !name.ends_with(kEnd)) continue;
    int owner = 0;
    const char* digits = name.data() + begin.size();
    const auto [end, bad] = std::from_chars(digits, name.data() + name.size(), owner);
    if (bad != std::errc() || *end != '-' || owner <= 0) continue;
    if (::kill(owner, 0) == 0 || errno != ESRCH) continue;
    left.push_back(entry.path());
  }
  for (const fs::path& one : left) {
    const int fd = lock(one, 0);
    if (fd < 0) continue;
    fs::remove_all(one, ignored);
    ::close(fd);
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

/// Renames without replacing, also on file systems that lack the flag.
int rename_new(const fs::path& from, const fs::path& to) {
  if (::renameat2(AT_FDCWD, from.c_str(), AT_FDCWD, to.c_str(), RENAME_NOREPLACE) == 0) return 0;
  if (errno != EINVAL && errno != ENOSYS) return -1;
  if (::access(to.c_str(), F_OK) == 0) {
    errno = EEXIST;
    return -1;
  }
  return std::rename(from.c_str(), to.c_str());
}

}  // namespace

Status check_absent(const fs::path& target, Overwrite overwrite) {
  struct stat info {};
  if (overwrite == Overwrite::Replace || ::lstat(target.c_str(), &info) != 0) return {};
  return fail(exists_error(target, "Give another name, or --force to replace it."));
}

OutputFile::OutputFile(fs::path target, fs::path temporary, int fd, Overwrite overwrite)
    : target_(std::move(target)),
      temporary_(std::move(temporary)),
      fd_(fd),
      overwrite_(overwrite) {}

OutputFile::OutputFile(OutputFile&& other) noexcept
    : target_(std::move(other.target_)),
      temporary_(std::move(other.temporary_)),
      fd_(std::exchange(other.fd_, -1)),
      overwrite_(other.overwrite_) {}

OutputFile::~OutputFile() {
  if (fd_ < 0) return;
  ::close(fd_);
  ::unlink(temporary_.c_str());
}

Result<OutputFile> OutputFile::create(const fs::path& target, Overwrite overwrite,
                                      Readers readers) {
  WEXLO_CHECK(check_absent(target, overwrite));
  std::error_code ignored;
  if (fs::is_directory(target, ignored))
    return fail(io_error(EISDIR, "cannot write", target.string()));
  sweep(target);
  auto temporary = temporary_beside(target);
  const mode_t mode = readers == Readers::OwnerAlone ? 0600 : 0666;
  const int fd = ::open(temporary.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, mode);
  if (fd < 0) return fail(io_error(errno, "cannot write", target.string()));
  ::flock(fd, LOCK_EX | LOCK_NB);
  return OutputFile(target, std::move(temporary), fd, overwrite);
}

Status OutputFile::resize(std::uint64_t size) {
  if (::ftruncate(fd_, static_cast<off_t>(size)) != 0)
    return fail(io_error(errno, "cannot write", target_.string()));
  return {};
}

Status OutputFile::write_at(std::uint64_t offset, View bytes) const {
  while (!bytes.empty()) {
    const auto done = ::pwrite(fd_, bytes.data(), bytes.size(), static_cast<off_t>(offset));
    if (done < 0 && errno == EINTR) continue;
    if (done < 0) return fail(io_error(errno, "cannot write", target_.string()));
    offset += static_cast<std::uint64_t>(done);
    bytes = bytes.subspan(static_cast<std::size_t>(done));
  }
  return {};
}

Status OutputFile::read_at(std::uint64_t offset, MutableView out) const {
  while (!out.empty()) {
    const auto got = ::pread(fd_, out.data(), out.size(), static_cast<off_t>(offset));
    if (got < 0 && errno == EINTR) continue;
    if (got <= 0)
      return fail(io_error(got < 0 ? errno : EIO, "cannot read back", target_.string()));
    offset += static_cast<std::uint64_t>(got);
    out = out.subspan(static_cast<std::size_t>(got));
  }
  return {};
}

Status OutputFile::commit(Flush flush) {
  if (flush == Flush::Wait && ::fsync(fd_) != 0)
    return fail(io_error(errno, "cannot flush", target_.string()));
  const int renamed = overwrite_ == Overwrite::Replace
                          ? std::rename(temporary_.c_str(), target_.c_str())
                          : rename_new(temporary_, target_);
  if (renamed != 0) return fail(io_error(errno, "cannot write", target_.string()));
  ::close(std::exchange(fd_, -1));
  // The folder's own flush would wait for the files in it, too.
  return flush == Flush::Wait ? sync_path(target_.parent_path(), O_DIRECTORY) : Status();
}

FolderGuard::FolderGuard(const fs::path& folder) : folder_(folder) {
  std::error_code ignored;
  made_ = fs::create_directory(folder, ignored);
}
FolderGuard::~FolderGuard() {
  std::error_code ignored;
  if (made_) fs::remove(folder_, ignored);  // only an empty one goes
}

Status write_file(const fs::path& target, View bytes, Overwrite overwrite, Flush flush,
                  Readers readers) {
  WEXLO_TRY(OutputFile file, OutputFile::create(target, overwrite, readers));
  WEXLO_CHECK(file.write_at(0, bytes));
  return file.commit(flush);
}

Status write_new(const fs::path& file, View bytes) {
  const int fd = ::open(file.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0666);
  if (fd < 0) return fail(io_error(errno, "cannot write", file.string()));
  Status status;
  while (status && !bytes.empty()) {
    const auto done = ::write(fd, bytes.data(), bytes.size());
    if (done < 0 && errno == EINTR) continue;
    if (done < 0) status = fail(io_error(errno, "cannot write", file.string()));
    if (done > 0) bytes = bytes.subspan(static_cast<std::size_t>(done));
  }
  // Begun now, it goes on while the next files are made; the commit waits for the rest.
  ::sync_file_range(fd, 0, 0, SYNC_FILE_RANGE_WRITE);
  ::close(fd);
  return status;
}

Result<OutputFolder> OutputFolder::create(const fs::path& target_name, Overwrite overwrite,
                                          std::string marker) {
  const fs::path target = without_slash(target_name);
  WEXLO_CHECK(check_absent(target, overwrite));
  std::error_code ignored;
  if (fs::exists(fs::symlink_status(target, ignored)) && !fs::exists(target / marker, ignored))
    return fail(exists_error(target, fmt::format("It holds no {}, so it is not replaced even with "
                                                 "--force: give another name.",
                                                 marker)));
  sweep(target);
  auto temporary = temporary_beside(target);
  if (::mkdir(temporary.c_str(), 0777) != 0)
    return fail(io_error(errno, "cannot make the folder", target.string()));
  const int fd = lock(temporary, O_DIRECTORY);
  return OutputFolder(target, std::move(temporary), fd);
}

OutputFolder::OutputFolder(OutputFolder&& other) noexcept
    : target_(std::move(other.target_)),
      temporary_(std::exchange(other.temporary_, {})),
      lock_(std::exchange(other.lock_, -1)) {}

OutputFolder::~OutputFolder() {
  if (lock_ >= 0) ::close(lock_);
  std::error_code ignored;
  if (!temporary_.empty()) fs::remove_all(temporary_, ignored);
}

Status OutputFolder::flush() const {
  // One flush of the file system is cheaper than many of files; it may also wait for others' files.
  constexpr std::size_t kMany = 64;
  std::error_code ignored;
  std::vector<fs::path> files;
  for (const auto& entry : fs::recursive_directory_iterator(temporary_, ignored)) {
    if (entry.is_regular_file(ignored)) files.push_back(entry.path());
    if (files.size() <= kMany) continue;
    const int fd = ::open(temporary_.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (fd < 0) return fail(io_error(errno, "cannot open", temporary_.string()));
    const bool bad = ::syncfs(fd) != 0;
    const int why = errno;
    ::close(fd);
    if (bad) return fail(io_error(why, "cannot flush", temporary_.string()));
    return {};
  }
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
  std::error_code ignored;
  WEXLO_CHECK(flush());
  if (!fs::exists(fs::symlink_status(target_, ignored))) {
    if (rename_new(temporary_, target_) != 0)
      return fail(io_error(errno, "cannot write", target_.string()));
    temporary_.clear();
  } else if (::renameat2(AT_FDCWD, temporary_.c_str(), AT_FDCWD, target_.c_str(),
                         RENAME_EXCHANGE) == 0) {
    // The old folder now has the temporary name; the destructor removes it.
  } else {
    return fail(io_error(errno, "cannot replace", target_.string()));
  }
  return sync_path(target_.parent_path(), O_DIRECTORY);
}

}  // namespace wexlo
