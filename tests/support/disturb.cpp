/// Preloaded into the program by tests: it stands between the program and the disk. The environment
/// says what happens there:
/// WEXLO_DISTURB=PART  one byte of each write to files with PART in their path comes out otherwise
/// WEXLO_SHORT=1       the disk takes only half of what is written at once
/// WEXLO_RECORD=FILE   what was asked of the disk, a line each: write, flush, flush-all, rename,
/// make WEXLO_KILL_AT=N     the program is killed instead of its N-th line WEXLO_TAKEN=FOLDER  when
/// a folder is exchanged for the output's, FOLDER has just taken its place

#include <dlfcn.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <string>

namespace {

const char* wish(const char* name) {
  return std::getenv(name);
}

std::string path_of(int fd) {
  char path[4096];
  const std::string link = "/proc/self/fd/" + std::to_string(fd);
  const ssize_t got = ::readlink(link.c_str(), path, sizeof path);
  return got > 0 ? std::string(path, static_cast<std::size_t>(got)) : std::string();
}

bool is_file(int fd) {
  struct stat info {};
  return ::fstat(fd, &info) == 0 && S_ISREG(info.st_mode);
}

template <class Call>
Call next(const char* name) {
  Call call = nullptr;
  void* const found = ::dlsym(RTLD_NEXT, name);
  std::memcpy(&call, &found, sizeof call);
  return call;
}

ssize_t real_write(int fd, const void* bytes, std::size_t size) {
  static const auto real = next<ssize_t (*)(int, const void*, size_t)>("write");
  return real(fd, bytes, size);
}

/// One line of the record, or the end of the program.
void happens(const std::string& line) {
  static std::atomic<long> count{0};
  const long now = ++count;
  if (const char* const at = wish("WEXLO_KILL_AT"); at != nullptr && std::atol(at) == now)
    ::raise(SIGKILL);
  const char* const record = wish("WEXLO_RECORD");
  if (record == nullptr) return;
  const int fd = ::open(record, O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC, 0666);
  if (fd < 0) ::abort();
  const std::string text = line + "\n";
  if (real_write(fd, text.data(), text.size()) < 0) ::abort();
  ::close(fd);
}

/// What is asked of a file on the disk; pipes and terminals are passed on as they are.
template <class Write>
ssize_t written(int fd, const void* bytes, std::size_t size, Write write) {
  const int before = errno;
  if (!is_file(fd)) return errno = before, write(bytes, size);
  const std::string path = path_of(fd);
  happens("write " + path);
  if (wish("WEXLO_SHORT") != nullptr && size > 1) size = (size + 1) / 2;
  const char* const part = wish("WEXLO_DISTURB");
  if (part == nullptr || size < 16 || path.find(part) == path.npos)
    return errno = before, write(bytes, size);
  std::string spoilt(static_cast<const char*>(bytes), size);
  spoilt[size / 2] = static_cast<char>(spoilt[size / 2] ^ 1);
  return errno = before, write(spoilt.data(), size);
}

}  // namespace

extern "C" {

ssize_t write(int fd, const void* bytes, size_t size) {
  return written(fd, bytes, size,
                 [fd](const void* some, size_t count) { return real_write(fd, some, count); });
}

ssize_t pwrite(int fd, const void* bytes, size_t size, off_t at) {
  static const auto real = next<ssize_t (*)(int, const void*, size_t, off_t)>("pwrite");
  return written(fd, bytes, size,
                 [&](const void* some, size_t count) { return real(fd, some, count, at); });
}

ssize_t pwrite64(int fd, const void* bytes, size_t size, off64_t at) {
  static const auto real = next<ssize_t (*)(int, const void*, size_t, off64_t)>("pwrite64");
  return written(fd, bytes, size,
                 [&](const void* some, size_t count) { return real(fd, some, count, at); });
}

int fsync(int fd) {
  static const auto real = next<int (*)(int)>("fsync");
  happens("flush " + path_of(fd));
  return real(fd);
}

int syncfs(int fd) noexcept {
  static const auto real = next<int (*)(int)>("syncfs");
  happens("flush-all " + path_of(fd));
  return real(fd);
}

int rename(const char* from, const char* to) noexcept {
  static const auto real = next<int (*)(const char*, const char*)>("rename");
  happens(std::string("rename ") + from + " " + to);
  return real(from, to);
}

int renameat2(int a, const char* from, int b, const char* to, unsigned flags) noexcept {
  static const auto real = next<int (*)(int, const char*, int, const char*, unsigned)>("renameat2");
  happens(std::string("rename ") + from + " " + to);
  const char* const other = wish("WEXLO_TAKEN");
  static bool taken = false;
  if (other != nullptr && (flags & RENAME_EXCHANGE) != 0 && !taken) {
    taken = true;
    if (real(a, other, b, to, RENAME_EXCHANGE) != 0) ::abort();
  }
  return real(a, from, b, to, flags);
}

int mkdir(const char* path, mode_t mode) noexcept {
  static const auto real = next<int (*)(const char*, mode_t)>("mkdir");
  happens(std::string("make ") + path);
  return real(path, mode);
}
}
