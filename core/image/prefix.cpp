#include "image/prefix.hpp"

#include <algorithm>
#include <array>

#include "image/part_header.hpp"
#include "image/sealed_block.hpp"

namespace wexlo::prefix {
namespace {

constexpr std::size_t kUnit = 512;

struct Known {
  std::string_view kind, magic;
};
constexpr std::array kKnown{
    Known{"part-header", std::string_view("\x88\x16\x88\x58", 4)},
    Known{"dhtb", sealed_block::kMagic},
    Known{"krnl", "KRNL"},
    Known{"keyblock", "CHROMEOS"},
};

bool is_sealed(View prefix) {
  return prefix.size() == sealed_block::kSize && sealed_block::begins(prefix);
}

std::uint32_t length_field(View prefix) {
  return is_sealed(prefix) ? sealed_block::covered_size(prefix) : part_header::payload_size(prefix);
}

}  // namespace

std::string_view kind_of(View bytes) {
  for (const Known& known : kKnown)
    if (as_text(bytes).starts_with(known.magic)) return known.kind;
  return "unknown";
}

std::optional<Prefix> find(View start, bool (*is_image)(View)) {
  const std::string_view kind = kind_of(start);
  if (kind == "krnl" && start.size() > 8 && is_image(start.subspan(8))) return Prefix{kind, 8};
  for (std::size_t at = kUnit; at < std::min(start.size(), kSearch); at += kUnit)
    if (is_image(start.subspan(at))) return Prefix{kind, at};
  return std::nullopt;
}

std::optional<bool> is_true(View prefix, View following) {
  if (kind_of(prefix) == "part-header" && prefix.size() == part_header::kSize)
    return length_field(prefix) <= following.size();
  if (!is_sealed(prefix)) return std::nullopt;
  return sealed_block::matches(prefix, following);
}

std::string refresh(Image& image, View stock, std::uint64_t stock_end) {
  const Blob old = image.prefix();
  if (old.empty()) return {};
  const View following = stock.subspan(old.size());
  const auto was_true = is_true(old.view(), following);
  if (!was_true)
    return "Bytes of unknown meaning stand before the image: a length or digest in them may be "
           "stale now.";
  if (!*was_true) return {};  // it was not valid before either
  const std::uint64_t said = length_field(old.view());
  std::uint64_t length = said;
  // What covers the whole file goes on doing so; what ends with the sections moves with them.
  if (said != following.size()) length = said + image.sections_end() - stock_end;
  Bytes fresh = to_bytes(old.view());
  const Bytes now = image.write();
  const View body = View(now).subspan(old.size());
  length = std::min<std::uint64_t>(length, body.size());
  if (is_sealed(old.view()))
    sealed_block::renew(fresh, body.first(static_cast<std::size_t>(length)));
  else
    part_header::set_payload_size(fresh, static_cast<std::uint32_t>(length));
  image.set_prefix(Blob(std::move(fresh)));
  return {};
}

}  // namespace wexlo::prefix
