#include "compare/compare_kernel.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/differing.hpp"
#include "image/kernel.hpp"
#include "text/hex.hpp"

namespace wexlo {
namespace {

constexpr std::size_t kMostPlaces = 64;
constexpr std::size_t kMostTold = 8;  ///< bytes told by their values

std::string told(View bytes, const DifferentPlace& place) {
  if (place.offset >= bytes.size()) return {};
  const View part =
      bytes.subspan(place.offset, std::min<std::size_t>(place.size, bytes.size() - place.offset));
  return place.size <= kMostTold ? hex(part) : fmt::format("{} bytes", part.size());
}

}  // namespace

void compare_kernels(const Blob& a, const Blob& b, const Context& context,
                     std::vector<Difference>& out) {
  const auto before = kernel::open_body(a, decode_limit(context));
  const auto after = kernel::open_body(b, decode_limit(context));
  if (!before || !after) return;
  const View was = before->decoded.view(), is = after->decoded.view();
  for (const DifferentPlace& place : differing_at_most(was, is, kMostPlaces)) {
    const DifferenceKind kind = place.offset >= was.size()  ? DifferenceKind::Added
                                : place.offset >= is.size() ? DifferenceKind::Removed
                                                            : DifferenceKind::Changed;
    out.push_back({DifferenceArea::Kernel, kind, fmt::format("0x{:x} (unpacked)", place.offset),
                   told(was, place), told(is, place)});
  }
}

}  // namespace wexlo
