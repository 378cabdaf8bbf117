#include "base/crc.hpp"

#include <fmt/format.h>
#include <libdeflate.h>
#include <zlib.h>

#include <algorithm>

namespace wexlo {

std::uint32_t crc32_of(View bytes, std::uint32_t before) {
  return libdeflate_crc32(before, bytes.data(), bytes.size());
}

std::uint32_t crc32_zeros(std::uint64_t count, std::uint32_t before) {
  constexpr std::uint64_t kAtOnce = 1u << 30;  // the library counts in a signed long
  while (count > 0) {
    const auto part = std::min(count, kAtOnce);
    // The sum of zeros alone, by doubling: what `before` leads to is put in front of it.
    std::uint32_t zeros = 0;
    std::uint64_t have = 0;
    for (int bit = 63; bit >= 0; --bit) {
      const auto length = static_cast<z_off_t>(have);
      if (have != 0) zeros = static_cast<std::uint32_t>(crc32_combine(zeros, zeros, length));
      have *= 2;
      if ((part >> bit & 1) == 0) continue;
      const unsigned char zero = 0;
      zeros = static_cast<std::uint32_t>(crc32(zeros, &zero, 1));
      ++have;
    }
    before = static_cast<std::uint32_t>(crc32_combine(before, zeros, static_cast<z_off_t>(part)));
    count -= part;
  }
  return before;
}

Status CrcChecker::finish() {
  if (sum_ == promised_) return {};
  return fail({.code = ErrorCode::DigestMismatch,
               .message = "the content does not have the promised CRC-32",
               .file = file_,
               .expected = fmt::format("{:08x}", promised_),
               .found = fmt::format("{:08x}", sum_),
               .hint = "The package is damaged: fetch it again."});
}

}  // namespace wexlo
