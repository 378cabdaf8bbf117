/// Preloaded into the program by tests: one byte of what it writes to a file comes out otherwise,
/// as from a failing disk. Which file: WEXLO_DISTURB, a part of its path. Once for each file.

#include <dlfcn.h>
#include <unistd.h>

#include <cstdlib>
#include <cstring>
#include <string>

namespace {

bool disturbs(int fd, std::size_t size) {
  const char* const wanted = std::getenv("WEXLO_DISTURB");
  if (wanted == nullptr || size < 16) return false;
  char path[4096];
  const std::string link = "/proc/self/fd/" + std::to_string(fd);
  const ssize_t got = ::readlink(link.c_str(), path, sizeof path - 1);
  return got > 0 &&
         std::string(path, static_cast<std::size_t>(got)).find(wanted) != std::string::npos;
}

std::string spoilt(const void* bytes, std::size_t size) {
  std::string out(static_cast<const char*>(bytes), size);
  out[size / 2] = static_cast<char>(out[size / 2] ^ 1);
  return out;
}

template <class Call>
Call next(const char* name) {
  Call call = nullptr;
  void* const found = ::dlsym(RTLD_NEXT, name);
  std::memcpy(&call, &found, sizeof call);
  return call;
}

}  // namespace

extern "C" {

ssize_t write(int fd, const void* bytes, size_t size) {
  static const auto real = next<ssize_t (*)(int, const void*, size_t)>("write");
  if (!disturbs(fd, size)) return real(fd, bytes, size);
  return real(fd, spoilt(bytes, size).data(), size);
}

ssize_t pwrite(int fd, const void* bytes, size_t size, off_t at) {
  static const auto real = next<ssize_t (*)(int, const void*, size_t, off_t)>("pwrite");
  if (!disturbs(fd, size)) return real(fd, bytes, size, at);
  return real(fd, spoilt(bytes, size).data(), size, at);
}

ssize_t pwrite64(int fd, const void* bytes, size_t size, off64_t at) {
  static const auto real = next<ssize_t (*)(int, const void*, size_t, off64_t)>("pwrite64");
  if (!disturbs(fd, size)) return real(fd, bytes, size, at);
  return real(fd, spoilt(bytes, size).data(), size, at);
}
}
