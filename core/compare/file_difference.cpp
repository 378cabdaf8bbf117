#include "compare/file_difference.hpp"

#include <algorithm>
#include <array>
#include <cstring>

#include "archive/tar.hpp"
#include "base/error_kinds.hpp"
#include "base/source_read.hpp"
#include "compare/compare.hpp"
#include "compare/text_place.hpp"

namespace wexlo {
namespace {

constexpr std::uint64_t kPiece = 1u << 20;
constexpr std::uint64_t kMostText = 16u << 20;
/// What is decoded to name a part: such images are the boot chain's.
constexpr std::uint64_t kMostImage = 256u << 20;

bool is_text(std::string_view name) {
  constexpr std::array<std::string_view, 7> kTexts{".toml", ".txt",      ".json", ".html",
                                                   ".svg",  ".messages", ".md"};
  return std::ranges::any_of(kTexts, [&](std::string_view end) { return name.ends_with(end); });
}

/// The first byte that differs, and how many do.
Status count(const Source& a, const Source& b, FileDifference& out, const Context& context) {
  const std::uint64_t common = std::min(out.size_a, out.size_b);
  for (std::uint64_t at = 0; at < common; at += kPiece) {
    WEXLO_CHECK(check_stop(context));
    const std::uint64_t size = std::min(kPiece, common - at);
    WEXLO_TRY(const Bytes left, read_some(a, at, size));
    WEXLO_TRY(const Bytes right, read_some(b, at, size));
    if (equal(left, right)) continue;
    for (std::size_t i = 0; i < left.size(); ++i) {
      if (left[i] == right[i]) continue;
      if (out.differing == 0) out.offset = at + i;
      ++out.differing;
    }
  }
  if (out.size_a == out.size_b) return {};
  if (out.differing == 0) out.offset = common;
  out.differing += std::max(out.size_a, out.size_b) - common;
  return {};
}

Status text_part(const Source& a, const Source& b, std::string_view name, FileDifference& out) {
  WEXLO_TRY(const Blob left, read_all(a, kMostText));
  WEXLO_TRY(const Blob right, read_all(b, kMostText));
  out.part = text_place(as_text(right.view()), out.offset, name);
  out.a = line_around(as_text(left.view()), out.offset);
  out.b = line_around(as_text(right.view()), out.offset);
  return {};
}

/// That an image, or a tar below, does not read names no part: only errors of this run go on.
Status image_part(const Source& a, const Source& b, FileDifference& out, const Context& context) {
  if (std::max(out.size_a, out.size_b) > kMostImage) return {};
  const auto right = load_image(b);
  if (!right) return is_of_this_run(right.error().code) ? fail(right.error()) : Status();
  out.part = region_at(*right, out.offset);
  const auto left = load_image(a);
  if (!left) return is_of_this_run(left.error().code) ? fail(left.error()) : Status();
  WEXLO_TRY(const ImageComparison both, compare_images(*left, *right, context));
  for (const Difference& one : both.differences)
    if (one.area == DifferenceArea::Ramdisk && out.part.starts_with("ramdisk")) {
      out.part += ", " + one.where;
      break;
    }
  return {};
}

Status tar_part(const SourcePtr& b, FileDifference& out, const Context& context) {
  const auto places = tar_places(b, context);
  if (!places) return is_of_this_run(places.error().code) ? fail(places.error()) : Status();
  out.part = "the end, behind all members";
  for (const TarPlace& one : *places)
    if (out.offset < one.data_at + one.size) {
      out.part = out.offset < one.data_at ? "the header of " + one.path : one.path;
      break;
    }
  return {};
}

Result<std::string> bytes_at(const Source& source, std::uint64_t offset) {
  constexpr std::uint64_t kShown = 8;
  if (offset >= source.size()) return std::string("(its end)");
  WEXLO_TRY(const Bytes bytes, read_some(source, offset, std::min(kShown, source.size() - offset)));
  return hex(bytes);
}

}  // namespace

Result<std::optional<FileDifference>> file_difference(const SourcePtr& a, const SourcePtr& b,
                                                      std::string_view name,
                                                      const Context& context) {
  FileDifference out{.size_a = a->size(), .size_b = b->size(), .part = {}, .a = {}, .b = {}};
  WEXLO_CHECK(count(*a, *b, out, context));
  if (out.differing == 0) return std::nullopt;
  if (is_text(name) && std::max(out.size_a, out.size_b) <= kMostText) {
    WEXLO_CHECK(text_part(*a, *b, name, out));
    return out;
  }
  WEXLO_TRY(out.a, bytes_at(*a, out.offset));
  WEXLO_TRY(out.b, bytes_at(*b, out.offset));
  if (name.ends_with(".img")) WEXLO_CHECK(image_part(*a, *b, out, context));
  if (name.ends_with(".tar.md5")) WEXLO_CHECK(tar_part(b, out, context));
  return out;
}

}  // namespace wexlo
