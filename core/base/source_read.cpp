#include "base/source_read.hpp"

#include <fmt/format.h>
#include <poll.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>

namespace wexlo {

Result<Bytes> digest_of_start(const Source& source, std::uint64_t size, DigestKind kind,
                              const Context& context) {
  constexpr std::size_t kPiece = 1u << 20;
  Hasher hasher(kind);
  Bytes piece(kPiece);
  for (std::uint64_t at = 0; at < size; at += kPiece) {
    WEXLO_CHECK(check_stop(context));
    const auto count = static_cast<std::size_t>(std::min<std::uint64_t>(kPiece, size - at));
    const MutableView part = MutableView(piece).first(count);
    WEXLO_CHECK(source.read_at(at, part));
    hasher.update(part);
    if (context.progress) context.progress(at + count, size);
  }
  return hasher.finish();
}

Result<Bytes> read_descriptor(int descriptor, const std::string& name, std::uint64_t limit,
                              const Context& context) {
  constexpr int kLook = 100;  // milliseconds between two looks at whether to stop
  Bytes out;
  for (;;) {
    WEXLO_CHECK(check_stop(context));
    pollfd ready{descriptor, POLLIN, 0};
    const int some = ::poll(&ready, 1, kLook);
    if (some == 0 || (some < 0 && errno == EINTR)) continue;
    std::byte piece[16u << 10];
    const auto got = some < 0 ? -1 : ::read(descriptor, piece, sizeof piece);
    if (got < 0 && (errno == EINTR || errno == EAGAIN)) continue;
    if (got < 0) return fail(io_error(errno, "cannot read", name));
    if (got == 0) return out;
    append(out, View(piece, static_cast<std::size_t>(got)));
    if (out.size() > limit)
      return fail({.code = ErrorCode::LimitExceeded,
                   .message = "larger than such a file can be",
                   .file = name,
                   .expected = fmt::format("at most {} bytes", limit),
                   .found = "more"});
  }
}

}  // namespace wexlo
