#include "base/output.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
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
fs::path temporary_beside(const fs::path& target, std::string_view ending) {
  static std::atomic<unsigned> counter = 0;
  return target.parent_path() /
         fmt::format(".{}.{}-{}{}", target.filename().string(), ::getpid(), counter++, ending);
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

constexpr std::string_view kPartial = ".partial";
/// The folder that was there before, while it is replaced where the system cannot exchange two.
constexpr std::string_view kBefore = ".before";

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

/// What a killed run left behind for the same target. One that lives holds a lock; one on another
/// machine may, too, and its number says nothing here.
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

/// Renames without replacing, also on file systems that lack the flag.
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

/// A device, a socket or a pipe is nobody's output file, and renaming onto it would take it away. A
/// link is looked through: `/dev/stdout` is one.
Status check_plain(const fs::path& target) {
  struct stat info {};
  if (::stat(target.c_str(), &info) != 0 || S_ISREG(info.st_mode)) return {};
  if (S_ISDIR(info.st_mode)) return fail(io_error(EISDIR, "cannot write", target.string()));
  return fail({.code = ErrorCode::Exists,
               .message = "the output is not a plain file",
               .file = target.string(),
               .hint = "Give the name of a file; it is not replaced even with --force."});
}

}  // namespace

void remove_tree(const fs::path& path) {
  if (::unlink(path.c_str()) == 0) return;  // it was a file
  std::error_code ignored;
  std::vector<fs::path> folders;
  {
    fs::directory_iterator at(path, ignored);
    for (; !ignored && at != fs::directory_iterator(); at.increment(ignored)) {
      std::error_code unknown;
      if (at->symlink_status(unknown).type() == fs::file_type::directory)
        folders.push_back(at->path());
      else
        ::unlink(at->path().c_str());
    }
  }
  for (const fs::path& one : folders)
    remove_tree(one);
  ::rmdir(path.c_str());
}

Status check_absent(const fs::path& target, Overwrite overwrite) {
  struct stat info {};
  if (overwrite == Overwrite::Replace || ::lstat(target.c_str(), &info) != 0) return {};
  return fail(exists_error(target, "Give another name, or --force to replace it."));
}

Status check_not_input(const fs::path& target, const std::vector<std::string>& inputs) {
  std::error_code error;
  const fs::path out = fs::weakly_canonical(without_slash(target), error);
  if (error || !fs::exists(target, error)) return {};
  const auto inside = [](const fs::path& one, const fs::path& folder) {
    const auto [end, rest] = std::ranges::mismatch(folder, one);
    return end == folder.end();
  };
  for (const std::string& input : inputs) {
    if (input.empty() || !fs::exists(input, error)) continue;
    const fs::path in = fs::weakly_canonical(input, error);
    const bool same = fs::equivalent(target, input, error) && !error;
    // A folder of Wexlo's own inside an input folder may be made anew there.
    const bool part = fs::is_directory(target, error) ? inside(in, out) : inside(out, in);
    if (!same && !part) continue;
    return fail({.code = ErrorCode::Usage,
                 .message = same              ? "the output is an input of this very call"
                            : inside(in, out) ? "the output is the folder of an input"
                                              : "the output is a file of an input folder",
                 .file = target.string(),
                 .found = input,
                 .hint = "Inputs are never written to: give the output another name."});
  }
  return {};
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
  WEXLO_CHECK(check_plain(target));
  sweep(target);
  auto temporary = temporary_beside(target, kPartial);
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
  WEXLO_CHECK(check_plain(target_));
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
  // Some file systems tell of a full disk only now.
  if (::close(fd) != 0 && status) status = fail(io_error(errno, "cannot write", file.string()));
  return status;
}

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
  auto temporary = temporary_beside(target, kPartial);
  if (::mkdir(temporary.c_str(), 0777) != 0)
    return fail(io_error(errno, "cannot make the folder", target.string()));
  const int fd = lock(temporary, O_DIRECTORY);
  return OutputFolder(target, std::move(temporary), std::move(marker), overwrite, fd);
}

OutputFolder::OutputFolder(OutputFolder&& other) noexcept
    : target_(std::move(other.target_)),
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
