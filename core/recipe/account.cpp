/// Accounting for a patch: stock and output are read afresh and compared structure by structure.

#include <fmt/format.h>

#include <algorithm>

#include "base/differing.hpp"
#include "base/digest.hpp"
#include "image/boot.hpp"
#include "image/device_tree.hpp"
#include "image/fragments.hpp"
#include "image/part_header.hpp"
#include "image/prefix.hpp"
#include "recipe/account.hpp"
#include "verified/layout.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {
namespace {

class Account {
 public:
  Account(const LoadedImage& stock, const LoadedImage& output, Patched& patched,
          const Intent& intent, const Context& context)
      : stock_(stock), output_(output), patched_(patched), intent_(intent), context_(context) {}

  Status run() {
    if (!output_.image || output_.image->layout().version != stock_.image->layout().version)
      return unexplained("it is of another kind");
    WEXLO_CHECK(prefix());
    WEXLO_CHECK(header());
    for (const Section& section : output_.image->sections())
      WEXLO_CHECK(check_section(section));
    WEXLO_CHECK(tail());
    return {};
  }

 private:
  View stock_bytes() const { return stock_.bytes.view(); }
  View output_bytes() const { return output_.bytes.view(); }

  /// Adds the spans of a region that differ at their own offset. Equal stretches shorter than a
  /// block belong to the span around them, so that a re-encoded ramdisk is one range and not
  /// thousands.
  void add_range(std::uint64_t begin, std::uint64_t size, const std::string& region,
                 const std::string& cause) {
    constexpr std::uint64_t kJoin = 4096;
    const View out = output_bytes(), old = stock_bytes();
    const std::uint64_t common = old.size() > begin ? std::min(size, old.size() - begin) : 0;
    auto places = differing(out.subspan(begin, common),
                            common == 0 ? View() : old.subspan(begin, common), kJoin);
    // What the stock image does not have at all differs, too.
    if (common < size && !places.empty() &&
        common - (places.back().offset + places.back().size) < kJoin)
      places.back().size = size - places.back().offset;
    else if (common < size)
      places.push_back({common, size - common});
    for (const DifferentPlace& place : places)
      patched_.ranges.push_back({begin + place.offset, place.size, region, cause});
  }

  /// A prefix may differ where it says something of the content, and then that has to match it.
  Status prefix() {
    const Blob &now = output_.image->prefix(), &old = stock_.image->prefix();
    if (now.size() != old.size()) return unexplained("the bytes before the image");
    if (equal(now.view(), old.view())) return {};
    if (!prefix::is_true(now.view(), output_bytes().subspan(now.size())).value_or(false))
      return unexplained("the bytes before the image", 0);
    add_range(0, now.size(), "bytes before the image", "renewed for the new content");
    return {};
  }

  bool ramdisk_meant() const {
    return !intent_.replaced_ramdisks.empty() || intent_.fragments ||
           std::ranges::any_of(intent_.ramdisks,
                               [](const auto& one) { return !one.second.empty(); });
  }

  bool section_meant(std::string_view name) const {
    if (name == "ramdisk" || name == "vendor_ramdisk") return ramdisk_meant();
    if (name == "vendor_ramdisk_table") return intent_.fragments.has_value();
    const std::string key(name);
    const bool trees = std::ranges::any_of(
        intent_.trees, [&](const auto& tree) { return tree.first.first == name; });
    return trees || intent_.replaced.contains(key) || intent_.sections.contains(key) ||
           (name == "kernel" && !intent_.kernel.empty());
  }

  /// Fields that follow from changed sections.
  bool follows(std::string_view field) const {
    const auto rules = output_.image->layout().sections;
    const auto meant = [&](const SectionRule& rule) { return section_meant(rule.name); };
    if (std::ranges::any_of(rules, [&](const SectionRule& rule) {
          return (rule.size_field == field || rule.memory_field == field) && meant(rule);
        }))
      return true;
    const bool any = std::ranges::any_of(rules, meant);
    if (field == "id")
      return any && boot::id_recipe(*stock_.image).has_value() &&
             boot::id_recipe(*output_.image) == boot::id_recipe(*stock_.image);
    if (intent_.fragments && field == "vendor_ramdisk_table_entry_num") return true;
    return any && field == "recovery_dtbo_offset";
  }

  Status header() {
    const View out = output_.image->header(), old = stock_.image->header();
    if (out.size() != old.size()) return unexplained("the header's size");
    Bytes rest_out = to_bytes(out), rest_old = to_bytes(old);
    for (const wexlo::Field& field : output_.image->layout().fields) {
      const View now = out.subspan(field.offset, field.size);
      const bool edited = intent_.fields.contains(std::string(field.name));
      if (!equal(now, old.subspan(field.offset, field.size)) && !edited && !follows(field.name))
        return unexplained(fmt::format("header field {}", field.name), field.offset);
      add_range(output_.image->prefix().size() + field.offset, field.size,
                fmt::format("header field {}", field.name),
                edited ? "set by an edit" : "follows from the changed parts");
      std::fill_n(rest_out.begin() + field.offset, field.size, std::byte{0});
      std::fill_n(rest_old.begin() + field.offset, field.size, std::byte{0});
    }
    if (rest_out != rest_old) return unexplained("header bytes that belong to no field");
    return {};
  }

  Status check_section(const Section& section) {
    const Section& old = *stock_.image->section(section.name);
    const std::uint64_t padding_at = section.offset + section.bytes.size();
    std::string cause = "moved: a section in front of it changed its size";
    if (!equal(section.bytes.view(), old.bytes.view())) {
      WEXLO_TRY(cause, section_content(section, old));
      if (!all_bytes(section.padding.view(), std::byte{0}))
        return unexplained(fmt::format("padding of {}", section.name), padding_at);
    } else if (!equal(section.padding.view(), old.padding.view())) {
      return unexplained(fmt::format("padding of {}", section.name), padding_at);
    }
    add_range(section.offset, section.bytes.size(), section.name, cause);
    add_range(padding_at, section.padding.size(), "padding of " + section.name, cause);
    return {};
  }

  /// Why a section's content may differ, once it was looked through.
  Result<std::string> section_content(const Section& section, const Section& old) {
    if (section.name == "ramdisk" || section.name == "vendor_ramdisk") {
      WEXLO_CHECK(ramdisks(section));
      return "re-encoded ramdisk, its entries accounted for one by one";
    }
    if (section.name == "vendor_ramdisk_table") {
      WEXLO_CHECK(table(section, old));
      return intent_.fragments ? "the fragments that are there now"
                               : "place and size of the changed fragment";
    }
    if (const auto text = intent_.sections.find(section.name); text != intent_.sections.end()) {
      if (text->second.sha256 != sha256_hex(section.bytes))
        return unexplained(fmt::format("section {}", section.name), section.offset);
      return text->second.cause;
    }
    const auto whole = intent_.replaced.find(section.name);
    const Blob base = whole == intent_.replaced.end() ? old.bytes : whole->second;
    if (equal(base.view(), section.bytes.view())) return "put in whole by a recipe";
    if (section.name == "kernel") {
      WEXLO_CHECK(account_kernel(section.bytes, base, intent_, context_));
      return "re-encoded kernel, its bytes and device trees accounted for";
    }
    const bool table = output_.image->kind() == "dt-table";
    const Blob now = table ? dt::whole_table(*output_.image) : section.bytes;
    WEXLO_CHECK(
        account_trees(section.name, now, table ? dt::whole_table(*stock_.image) : base, intent_));
    return "device trees, their nodes accounted for one by one";
  }

  /// Which stock ramdisk one of the output's was; nullopt: it was added.
  std::optional<std::size_t> origin(std::size_t index) const {
    if (!intent_.fragments) return index;
    return index < intent_.fragments->size() ? (*intent_.fragments)[index] : std::nullopt;
  }

  /// Rows may differ in size and offset alone; whether those are valid the parser has checked.
  Status table(const Section& section, const Section& old) const {
    const std::uint64_t row = output_.image->number("vendor_ramdisk_table_entry_size");
    const View now = section.bytes.view(), before = old.bytes.view();
    const auto parts = boot::ramdisk_parts(*output_.image);
    bool same = row != 0 && now.size() >= parts.size() * row;
    for (std::size_t i = 0; same && i < parts.size(); ++i) {
      const auto from = origin(i);
      const auto added = intent_.added.find(i);
      constexpr std::size_t kPlace = 8;  // size and offset
      if (from)
        same = (*from + 1) * row <= before.size() &&
               equal(now.subspan(i * row + kPlace, row - kPlace),
                     before.subspan(*from * row + kPlace, row - kPlace));
      else
        same = added != intent_.added.end() && boot::fragment_key(parts[i]) == added->second;
    }
    const std::size_t old_end = boot::ramdisk_parts(*stock_.image).size() * row;
    if (same)
      same = old_end <= before.size() &&
             equal(now.subspan(parts.size() * row), before.subspan(old_end));
    return same ? Status{} : unexplained("the vendor ramdisk table", section.offset);
  }

  /// The section's ramdisks one by one, with what stands around them.
  Status ramdisks(const Section& section) {
    const auto now = boot::ramdisk_parts(*output_.image), old = boot::ramdisk_parts(*stock_.image);
    if (old.empty() && now.size() == 1) return made_ramdisk(now.front());
    if (now.size() != (intent_.fragments ? intent_.fragments->size() : old.size()))
      return unexplained("the number of ramdisks", section.offset);
    std::uint64_t around = section.bytes.size(),
                  old_around = stock_.image->section(section.name)->bytes.size();
    for (const boot::RamdiskPart& one : old)
      if (one.section == section.name) old_around -= size_of(one);
    for (std::size_t i = 0; i < now.size(); ++i) {
      if (now[i].section != section.name) continue;
      around -= size_of(now[i]);
      const auto from = origin(i);
      if (!from) {
        WEXLO_CHECK(made_ramdisk(now[i]));
        continue;
      }
      const boot::RamdiskPart& before = old.at(*from);
      const bool header_true = now[i].header.empty() ||
                               equal(now[i].header.view(),
                                     part_header::renewed(before.header.view(), before.bytes.size(),
                                                          now[i].bytes.size()));
      if (now[i].header.size() != before.header.size() || !header_true ||
          !equal(now[i].rest.view(), before.rest.view()))
        return unexplained("what stands around a ramdisk", now[i].offset);
      if (equal(now[i].bytes.view(), before.bytes.view())) continue;
      const auto whole = intent_.replaced_ramdisks.find(now[i].index);
      const Blob base = whole == intent_.replaced_ramdisks.end() ? before.bytes : whole->second;
      WEXLO_TRY(const ReadRamdisks read, output_.decoded->ramdisks(context_));
      WEXLO_CHECK(account_ramdisk(read->at(i), base, intent_, patched_.entries, context_));
    }
    // Bytes between fragments: as many as before, and the splice has moved them whole.
    if (around != old_around) return unexplained("bytes between fragments", section.offset);
    return {};
  }

  static std::uint64_t size_of(const boot::RamdiskPart& part) {
    return part.header.size() + part.bytes.size() + part.rest.size();
  }

  /// Where there was none: it was made with nothing in it.
  Status made_ramdisk(const boot::RamdiskPart& now) {
    const auto whole = intent_.replaced_ramdisks.find(now.index);
    if (whole == intent_.replaced_ramdisks.end() || !now.header.empty() || !now.rest.empty())
      return unexplained("a ramdisk that nobody made", now.offset);
    WEXLO_TRY(const ReadRamdisks read, output_.decoded->ramdisks(context_));
    return account_ramdisk(read->at(now.index), whole->second, intent_, patched_.entries, context_);
  }

  Status tail() {
    WEXLO_TRY(const std::string cause, account_tail(stock_, output_, intent_));
    add_range(output_.image->sections_end(), output_.image->tail().size(), "tail", cause);
    return {};
  }

  const LoadedImage &stock_, &output_;
  Patched& patched_;
  const Intent& intent_;
  const Context& context_;
};

}  // namespace

std::unexpected<Error> unexplained(std::string message, std::optional<std::uint64_t> offset) {
  return fail({.code = ErrorCode::Unexplained,
               .message = "the output differs where no edit explains it: " + std::move(message),
               .offset = offset,
               .hint = "Nothing was written. This is a fault of Wexlo's own: please report it with "
                       "the stock image's digest and the recipe."});
}

Status account(const LoadedImage& stock, const LoadedImage& output, Patched& patched,
               const Intent& intent, const Context& context) {
  return Account(stock, output, patched, intent, context).run();
}

}  // namespace wexlo
