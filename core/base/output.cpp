#include "base/output.hpp"

#include <fcntl.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstdio>
#include <utility>
#include <vector>

#include "base/file_at.hpp"
#include "base/output_names.hpp"

namespace wexlo {
namespace fs = std::filesystem;
using namespace output;
namespace {

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

OutputFile::OutputFile(MadeFolders folders, fs::path target, fs::path temporary, int fd,
                       Overwrite overwrite)
    : folders_(std::move(folders)),
      target_(std::move(target)),
      temporary_(std::move(temporary)),
      fd_(fd),
      overwrite_(overwrite) {}

OutputFile::OutputFile(OutputFile&& other) noexcept
    : folders_(std::move(other.folders_)),
      target_(std::move(other.target_)),
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
  WEXLO_TRY(MadeFolders folders, MadeFolders::above(target));
  auto temporary = temporary_beside(target, kPartial);
  const mode_t mode = readers == Readers::OwnerAlone ? 0600 : 0666;
  const int fd = ::open(temporary.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, mode);
  if (fd < 0) return fail(io_error(errno, "cannot write", target.string()));
  ::flock(fd, LOCK_EX | LOCK_NB);
  return OutputFile(std::move(folders), target, std::move(temporary), fd, overwrite);
}

Status OutputFile::resize(std::uint64_t size) {
  if (::ftruncate(fd_, static_cast<off_t>(size)) != 0)
    return fail(io_error(errno, "cannot write", target_.string()));
  return {};
}

Status OutputFile::write_at(std::uint64_t offset, View bytes) const {
  return write_file_at(fd_, offset, bytes, target_.string());
}

Status OutputFile::read_at(std::uint64_t offset, MutableView out) const {
  return read_whole_at(fd_, offset, out, target_.string(), "cannot read back");
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
  folders_.keep();
  // The folder's own flush would wait for the files in it, too.
  return flush == Flush::Wait ? sync_path(target_.parent_path(), O_DIRECTORY) : Status();
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

}  // namespace wexlo
