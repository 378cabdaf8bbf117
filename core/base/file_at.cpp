#include "base/file_at.hpp"

#include <unistd.h>

#include <cerrno>

namespace wexlo {
namespace {

Result<std::size_t> read_on(int fd, std::uint64_t offset, MutableView out, std::string_view file,
                            std::string_view doing) {
  std::size_t done = 0;
  while (done < out.size()) {
    const auto got = ::pread(fd, &out[done], out.size() - done, static_cast<off_t>(offset + done));
    if (got < 0 && errno == EINTR) continue;
    if (got < 0) return fail(io_error(errno, doing, file));
    if (got == 0) break;
    done += static_cast<std::size_t>(got);
  }
  return done;
}

}  // namespace

Status write_file_at(int fd, std::uint64_t offset, View bytes, std::string_view file) {
  while (!bytes.empty()) {
    const auto done = ::pwrite(fd, bytes.data(), bytes.size(), static_cast<off_t>(offset));
    if (done < 0 && errno == EINTR) continue;
    if (done < 0) return fail(io_error(errno, "cannot write", file));
    offset += static_cast<std::uint64_t>(done);
    bytes = bytes.subspan(static_cast<std::size_t>(done));
  }
  return {};
}

Result<std::size_t> read_file_at(int fd, std::uint64_t offset, MutableView out,
                                 std::string_view file) {
  return read_on(fd, offset, out, file, "cannot read");
}

Status read_whole_at(int fd, std::uint64_t offset, MutableView out, std::string_view file,
                     std::string_view doing) {
  WEXLO_TRY(const std::size_t got, read_on(fd, offset, out, file, doing));
  if (got < out.size()) return fail(io_error(EIO, doing, file));
  return {};
}

}  // namespace wexlo
