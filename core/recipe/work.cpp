#include "recipe/work.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/digest.hpp"
#include "image/kernel.hpp"
#include "recipe/journal.hpp"
#include "text/text_diff.hpp"

namespace wexlo {
namespace {

using newc::Entry;
using CpioField = newc::Field;

constexpr std::size_t kShownDigest = 12;  ///< hex digits
constexpr std::size_t kMostDiffed = 1u << 20;

std::string shown(const std::optional<View>& content) {
  if (!content) return "(none)";
  if (content->empty()) return "(empty)";
  return fmt::format("{} bytes, SHA-256 {}…", content->size(),
                     sha256_hex(*content).substr(0, kShownDigest));
}

std::string named(const Edit& edit) {
  return fmt::format("{}: {}", edit.recipe, edit.summary());
}

}  // namespace

void Work::intend(const std::string& place, std::optional<View> content, const std::string& cause) {
  opened->meant[place] = {content ? std::optional(sha256_hex(*content)) : std::nullopt, cause};
}

void Work::conflict(const std::string& where, const Edit& earlier) {
  Conflict found{where, named(earlier), named(*edit)};
  if (std::ranges::find(out.conflicts, found) == out.conflicts.end())
    out.conflicts.push_back(std::move(found));
}

void Work::claim(const std::string& where, std::string value) {
  const auto [at, fresh] = claims_.try_emplace(where, Claim{edit, value});
  if (fresh) return;
  if (at->second.edit != edit && at->second.value != value) conflict(where, *at->second.edit);
  at->second = {edit, std::move(value)};
}

void Work::show(const std::string& where, std::optional<View> before, std::optional<View> after) {
  Effect effect{.where = where, .before = shown(before), .after = shown(after)};
  const auto is_text = [](const std::optional<View>& view) {
    return !view || (view->size() <= kMostDiffed && looks_like_text(as_text(*view)));
  };
  if ((before || after) && is_text(before) && is_text(after))
    effect.diff = diff_lines(before ? as_text(*before) : "", after ? as_text(*after) : "");
  report->effects.push_back(std::move(effect));
}

void Work::tell(const std::string& where, std::optional<View> before, std::optional<View> after) {
  claim(where, after ? sha256_hex(*after) : "gone");
  const auto text = texts_.find(where);
  if (text != texts_.end() && text->second != edit) conflict(where, *text->second);
  show(where, before, after);
}

void Work::tell_text(const std::string& where, View before, View after) {
  texts_[where] = edit;
  show(where, before, after);
}

void Work::tell(const std::string& where, std::string before, std::string after) {
  claim(where, after);
  report->effects.push_back({where, std::move(before), std::move(after), {}});
}

void Work::note(Remark remark) {
  if (std::ranges::find(out.notes, remark) == out.notes.end())
    out.notes.push_back(std::move(remark));
}

void Work::lower(FindingCode code, std::string_view about) {
  Lowered lowered{code, std::string(about)};
  if (std::ranges::find(out.lowered, lowered) == out.lowered.end())
    out.lowered.push_back(std::move(lowered));
}

OpenRamdisk* Work::home() {
  const auto always = [](const OpenRamdisk& one) { return one.part.every_start_loads(); };
  const auto at = std::ranges::find_if(ramdisks, always);
  if (at != ramdisks.end()) return &*at;
  return ramdisks.empty() ? nullptr : &ramdisks.front();
}

OpenRamdisk* Work::ramdisk_for(const Edit& one) {
  const auto find = [&](auto suits) {
    const auto at = std::ranges::find_if(ramdisks, suits);
    return at == ramdisks.end() ? nullptr : &*at;
  };
  if (!one.fragment.empty())
    return find([&](const OpenRamdisk& open) {
      return open.part.name == one.fragment ||
             boot::ramdisk_type_name(open.part.type) == one.fragment;
    });
  if (one.home == Home::RecoveryRamdisk && !role.partition.starts_with("recovery"))
    return find([](const OpenRamdisk& open) {
      return open.part.is(boot::RamdiskType::Recovery) || has_recovery(open.ramdisk);
    });
  OpenRamdisk* usual = home();
  const std::string place = one.place();
  if (usual == nullptr || place.empty() || find_entry(usual->ramdisk, place)) return usual;
  OpenRamdisk* other =
      find([&](const OpenRamdisk& open) { return find_entry(open.ramdisk, place).has_value(); });
  return other == nullptr ? usual : other;
}

bool Work::is_for(const OpenRamdisk& one) const {
  const std::string& wanted = edit->fragment;
  return wanted.empty() || wanted == one.part.name ||
         wanted == boot::ramdisk_type_name(one.part.type);
}

const std::string& Work::kernel_architecture() {
  if (!phone.kernel_architecture.empty()) return phone.kernel_architecture;
  // One that was put in its place is for the same processor.
  if (const auto kernel = stock.decoded->kernel(context); kernel && *kernel)
    phone.kernel_architecture = (*kernel)->architecture;
  return phone.kernel_architecture;
}

Status Work::add(Entry entry, const std::string& cause) {
  const Blob content = entry.data();
  WEXLO_TRY(const auto made, add_entry(ramdisk(), std::move(entry)));
  for (const std::string& place : made)
    intend(place, place == made.back() ? content.view() : View{}, cause);
  return {};
}

void Work::rewrite(EntryAt at, const std::string& place, View content, const std::string& cause) {
  detach_links(ramdisk(), at);
  edit_entry(ramdisk(), at).set_data(Blob(to_bytes(content)));
  intend(place, content, cause);
}

bool Work::erase(const std::string& place, const std::string& cause) {
  const auto gone = erase_entries(ramdisk(), place);
  for (const std::string& one : gone)
    intend(one, std::nullopt, cause);
  return !gone.empty();
}

Status Work::keep_stock_file(const std::string& place, EntryAt at, const KeepStock& keep) {
  const std::string usual = std::string(kStockFolder) + place;
  const std::string kept = keep.path.empty() ? usual : keep.path;
  // Kept on an earlier run: what stands in the place now is not the stock file.
  if (find_entry(ramdisk(), kept)) {
    if (patched_before || keep.path.empty()) return {};
    return fail({.code = ErrorCode::BadValue,
                 .message = fmt::format("recipe {} keeps the stock /{} at /{}, and something is "
                                        "there already",
                                        edit->recipe, place, kept),
                 .expected = "nothing at /" + kept,
                 .found = "a file of the stock ramdisk, or of another edit",
                 .hint = "Choose another place for keep_stock in the recipe."});
  }
  // One that was kept by another recipe before is the stock file, what stands there now is not.
  if (const auto earlier = find_entry(ramdisk(), usual)) at = *earlier;
  const Entry& old = entry_at(ramdisk(), at);
  WEXLO_TRY(const Blob content, packed_file(content_of(ramdisk(), at), keep.pack, context));
  Entry copy = Entry::make(kept, old.mode(), content);
  for (const CpioField field :
       {CpioField::Uid, CpioField::Gid, CpioField::RdevMajor, CpioField::RdevMinor})
    copy.set(field, old.get(field));
  const std::uint32_t time = old.get(CpioField::Mtime);
  WEXLO_CHECK(add(std::move(copy), "keeps the stock /" + place));
  kept_files[place] = kept;
  tell("/" + kept, std::nullopt, content.view());
  edit_entry(ramdisk(), *find_entry(ramdisk(), kept)).set(CpioField::Mtime, time);
  detail(fmt::format(
      "kept the stock file as /{}{}", kept,
      keep.pack == FilePack::None ? "" : fmt::format(", packed as {}", file_pack_word(keep.pack))));
  return {};
}

}  // namespace wexlo
