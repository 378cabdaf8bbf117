#include "image/tail.hpp"

#include <algorithm>
#include <array>

#include "image/sealed_block.hpp"

namespace wexlo {
namespace {

constexpr std::string_view kEnforcing = "SEANDROIDENFORCE";
constexpr std::size_t kFooter = 64, kBlock = 4096;
/// A footer's magic and major version: bytes may stand behind it, so its place alone tells nothing.
constexpr std::string_view kFooterStart("AVBf\0\0\0\1", 8);

/// Length of a DER sequence with a two-byte length; 0 when there is none.
std::size_t der_size(View at) {
  if (at.size() < 4 || at[0] != std::byte{0x30} || at[1] != std::byte{0x82}) return 0;
  const std::size_t size = 4u + load<std::uint16_t, std::endian::big>(at.data() + 2);
  // Its first member is the version, 1: other bytes that begin alike are no signature.
  const bool version =
      at.size() > 7 && as_text(at.subspan(4)).starts_with(std::string_view("\x02\x01\x01", 3));
  return version && size <= at.size() ? size : 0;
}

std::size_t run_of(View at, std::byte value) {
  // Padding is megabytes: it is stepped over a block at a time.
  std::size_t size = 0;
  while (at.size() - size >= kBlock && all_bytes(at.subspan(size, kBlock), value))
    size += kBlock;
  while (size < at.size() && at[size] == value)
    ++size;
  return size;
}

/// Bytes up to the next thing that is recognised; looked for where blocks begin.
std::size_t other_bytes(View at) {
  std::size_t size = 16;
  while (size < at.size()) {
    const View rest = at.subspan(size);
    const bool block = size % kBlock == 0 && as_text(rest).starts_with("AVB0");
    const bool padding = rest.size() >= 64 && (run_of(rest.first(64), std::byte{0}) == 64 ||
                                               run_of(rest.first(64), std::byte{0xff}) == 64);
    const bool footer = rest.size() >= kFooter && as_text(rest).starts_with(kFooterStart);
    const bool sealed = sealed_block::begins(rest);
    if (block || padding || footer || sealed) break;
    ++size;
  }
  return std::min(size, at.size());
}

TailItem item_at(View rest) {
  const std::string_view text = as_text(rest);
  if (text.starts_with(kEnforcing)) return {TailKind::EnforcingTrailer, 0, kEnforcing.size()};
  if (const std::size_t der = der_size(rest)) return {TailKind::OlderSignature, 0, der};
  // At the end it counts whatever its version is.
  if (rest.size() >= kFooter && text.starts_with(rest.size() == kFooter ? "AVBf" : kFooterStart))
    return {TailKind::Footer, 0, kFooter};
  if (sealed_block::begins(rest)) return {TailKind::SealedBlock, 0, sealed_block::kSize};
  if (rest.size() >= 256 && text.starts_with("AVB0")) {
    const auto be = [&](std::size_t at) {
      return load<std::uint64_t, std::endian::big>(rest.data() + at);
    };
    const std::uint64_t left = rest.size() - 256, authentication = be(12), auxiliary = be(20);
    if (authentication <= left && auxiliary <= left - authentication)
      return {TailKind::Vbmeta, 0, 256 + authentication + auxiliary};
  }
  for (const auto& [value, kind] :
       {std::pair{std::byte{0}, TailKind::Zeros}, {std::byte{0xff}, TailKind::Ones}})
    if (const std::size_t run = run_of(rest, value)) return {kind, 0, run};
  return {TailKind::Other, 0, other_bytes(rest)};
}

}  // namespace

std::vector<TailItem> tail_items(View tail) {
  std::vector<TailItem> items;
  std::size_t at = 0;
  while (at < tail.size()) {
    // The footer stands at the very end, whatever is before it.
    View rest = tail.subspan(at);
    if (rest.size() > kFooter && as_text(rest.last(kFooter)).starts_with("AVBf"))
      rest = rest.first(rest.size() - kFooter);
    TailItem item = item_at(rest);
    item.offset = at;
    at += item.size;
    // Short runs belong to the bytes around them: only padding is told as such.
    const bool same = !items.empty() && items.back().kind == item.kind;
    if (same)
      items.back().size += item.size;
    else
      items.push_back(item);
  }
  return items;
}

std::string_view tail_name(TailKind kind) {
  constexpr std::array<std::string_view, 8> kNames{
      "enforcing trailer",    "older boot signature", "zeros",      "0xff", "vbmeta",
      "verified-boot footer", "sealed block",         "other bytes"};
  return kNames[static_cast<std::size_t>(kind)];
}

bool has_older_signature(View tail) {
  return der_size(tail) != 0;
}

}  // namespace wexlo
