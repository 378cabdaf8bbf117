#include "image/sealed_block.hpp"

#include <algorithm>

#include "base/digest.hpp"

namespace wexlo::sealed_block {
namespace {

constexpr std::size_t kDigestAt = 8, kDigestSize = 32, kLengthAt = 48;

}  // namespace

bool begins(View bytes) {
  return bytes.size() >= kSize && as_text(bytes).starts_with(kMagic);
}

std::uint32_t covered_size(View block) {
  return load<std::uint32_t, LE>(block.data() + kLengthAt);
}

bool matches(View block, View covered) {
  const std::uint32_t length = covered_size(block);
  return length <= covered.size() && equal(digest(DigestKind::Sha256, covered.first(length)),
                                           block.subspan(kDigestAt, kDigestSize));
}

void renew(MutableView block, View covered) {
  store<std::uint32_t, LE>(block.data() + kLengthAt, static_cast<std::uint32_t>(covered.size()));
  std::ranges::copy(digest(DigestKind::Sha256, covered), block.begin() + kDigestAt);
}

std::optional<Behind> find(View file, std::uint64_t from) {
  for (std::uint64_t at = align_up(from, kSize); at + kSize <= file.size(); at += kSize) {
    const View block = file.subspan(static_cast<std::size_t>(at));
    if (!begins(block)) continue;
    const std::uint64_t size = covered_size(block);
    Behind out{.offset = at, .begin = 0, .covered = size, .valid = false};
    if (size == 0 || size > at) return out;
    // Counted from the file's start, or back from the block itself.
    for (const std::uint64_t begin : {std::uint64_t{0}, at - size}) {
      out.begin = begin;
      out.valid = matches(block, file.subspan(static_cast<std::size_t>(begin)));
      if (out.valid) return out;
    }
    out.begin = 0;
    return out;
  }
  return std::nullopt;
}

std::optional<std::uint64_t> renew_behind(MutableView file, View stock, std::uint64_t from,
                                          std::int64_t moved) {
  const auto block = find(stock, from);
  if (!block || !block->valid) return std::nullopt;
  const std::uint64_t offset = file.size() - (stock.size() - block->offset);
  // What reaches up to the block goes on doing so; what ends with the content moves with it.
  const std::uint64_t old_end = block->begin + block->covered;
  const std::uint64_t end = old_end == block->offset
                                ? offset
                                : std::min(offset, old_end + static_cast<std::uint64_t>(moved));
  const std::uint64_t begin = std::min(block->begin, end);
  renew(file.subspan(static_cast<std::size_t>(offset), kSize),
        View(file).subspan(static_cast<std::size_t>(begin), static_cast<std::size_t>(end - begin)));
  return offset;
}

}  // namespace wexlo::sealed_block
