/// Zips with something before their first entry.

#include <algorithm>

#include "archive/zip.hpp"

namespace wexlo {
namespace {

constexpr std::size_t kEndSize = 22, kMostComment = 65535, kEnd64Size = 56, kLocatorSize = 20;
constexpr std::string_view kEnd{"PK\5\6", 4}, kEnd64{"PK\6\6", 4}, kLocator{"PK\6\7", 4},
    kEntry{"PK\1\2", 4};

template <std::unsigned_integral T>
std::uint64_t field(View in, std::size_t at) {
  return load<T, LE>(in.data() + at);
}

/// Size and offset of the directory, and where it ends in the file.
struct Directory {
  std::uint64_t size = 0, offset = 0, end = 0;
};

/// The record of large zips stands before the small one, with a locator between them.
std::optional<Directory> large_directory(View tail, std::uint64_t from, std::size_t end) {
  if (end < kEnd64Size + kLocatorSize) return std::nullopt;
  const std::size_t locator = end - kLocatorSize, record = locator - kEnd64Size;
  if (as_text(tail.subspan(locator, 4)) != kLocator || as_text(tail.subspan(record, 4)) != kEnd64)
    return std::nullopt;
  const View raw = tail.subspan(record, kEnd64Size);
  return Directory{field<std::uint64_t>(raw, 40), field<std::uint64_t>(raw, 48), from + record};
}

std::optional<Directory> find_directory(View tail, std::uint64_t from) {
  for (std::size_t at = tail.size() - kEndSize + 1; at-- > 0;) {
    if (as_text(tail.subspan(at, 4)) != kEnd) continue;
    const View raw = tail.subspan(at, kEndSize);
    // The comment fills what is left of the file.
    if (at + kEndSize + field<std::uint16_t>(raw, 20) > tail.size()) continue;
    if (const auto large = large_directory(tail, from, at)) return large;
    return Directory{field<std::uint32_t>(raw, 12), field<std::uint32_t>(raw, 16), from + at};
  }
  return std::nullopt;
}

}  // namespace

Result<std::optional<std::uint64_t>> zip_start(const Source& source) {
  if (source.size() < kEndSize) return std::nullopt;
  const std::uint64_t from =
      source.size() - std::min<std::uint64_t>(source.size(), kEndSize + kMostComment);
  WEXLO_TRY(const Bytes tail, read_some(source, from, source.size() - from));
  if (tail.size() < kEndSize) return std::nullopt;
  const auto directory = find_directory(tail, from);
  if (!directory || directory->size > directory->end || directory->size == 0) return std::nullopt;
  const std::uint64_t at = directory->end - directory->size;
  WEXLO_TRY(const Bytes first, read_some(source, at, kEntry.size()));
  if (as_text(first) != kEntry || directory->offset > at) return std::nullopt;
  return at - directory->offset;
}

}  // namespace wexlo
