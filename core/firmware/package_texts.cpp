#include "firmware/package_texts.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <iterator>

#include "base/contains.hpp"
#include "base/error_kinds.hpp"
#include "firmware/build_text.hpp"

namespace wexlo {
namespace {

/// A text member; nullopt: it is no text, or it does not read, and a note says so.
Result<std::optional<std::string>> text_if_readable(const Item& item, const Opening& opening,
                                                    Firmware& out) {
  auto raw = read_text(item, kMaxText, opening.context);
  // A small tar may be called .md5, too: what stands in its images is no listing.
  if (raw && raw->contains('\0')) return std::nullopt;
  if (raw) return std::move(*raw);
  if (ends_package(raw.error().code)) return fail(std::move(raw).error());
  out.note(FindingCode::UnreadableFile,
           fmt::format("{} does not read: {}", item.path, describe(raw.error())));
  return std::nullopt;
}

}  // namespace

bool ends_package(ErrorCode code) {
  return is_of_this_run(code) || code == ErrorCode::UnsafePath || code == ErrorCode::LimitExceeded;
}

Result<PackageTexts> read_package_texts(const Bundle& bundle, const Opening& opening,
                                        ListingIndex& listings, Firmware& out) {
  PackageTexts told;
  for (const Item& item : bundle.items) {
    if (!is_build_text(item.path) || item.size > kMaxText) continue;
    WEXLO_TRY(const auto raw, text_if_readable(item, opening, out));
    if (!raw) continue;
    const BuildText text = read_build_text(item.path, *raw);
    out.build.merge(text.build);
    out.incremental |= text.incremental;
    told.over_the_air |= text.over_the_air;
    std::ranges::copy(text.patches, std::back_inserter(told.patches));
    told.files.push_back(&item);
    if (base_name(item.path) == "android-info.txt")
      out.signs.bootloader = fmt::format("{} says which bootloaders take it", item.path);
  }
  for (const Item& item : bundle.items) {
    if (contains(told.files, &item) || !may_be_listing(item.path) || item.size > kMaxText) continue;
    if (item.path.starts_with("META-INF/")) continue;
    WEXLO_CHECK(check_stop(opening.context));
    WEXLO_TRY(const auto raw, text_if_readable(item, opening, out));
    const ListingRows added = raw ? listings.add(item, *raw, out.build) : ListingRows{};
    if (added.commands > 0 && out.signs.bootloader.empty())
      out.signs.bootloader = fmt::format("{} writes the images by the bootloader", item.path);
    const std::size_t rows = added.rows;
    if (rows == 0) continue;
    told.files.push_back(&item);
    out.layers.front().detail += fmt::format(", {} with {} rows", base_name(item.path), rows);
  }
  return told;
}

}  // namespace wexlo
