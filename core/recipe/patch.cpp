#include "recipe/patch.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "base/digest.hpp"
#include "image/boot.hpp"
#include "image/fragments.hpp"
#include "parts/rebuild.hpp"
#include "ramdisk/textfiles.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {
namespace {

using newc::Entry;
using newc::Field;

/// One image being edited.
class Patcher {
 public:
  Patcher(const LoadedImage& stock, const PatchRole& role, const Context& context)
      : stock_(stock), role_(role), context_(context), image_(*stock.image), digests_(context) {}

  Result<Patched> run(const std::vector<Recipe>& recipes) {
    // Hashed while the ramdisk is read: the journal holds the stock image's digest.
    digests_.submit(0, [this]() -> Status {
      stock_sha256_ = sha256_hex(stock_.bytes);
      return {};
    });
    WEXLO_CHECK(open_ramdisks(recipes));
    for (const Recipe& recipe : recipes)
      for (const Edit& edit : recipe.edits)
        WEXLO_CHECK(apply(edit));
    if (!out_.changed) {
      WEXLO_CHECK(digests_.wait());
      out_.bytes = stock_.bytes;
      out_.sha256 = stock_sha256_;
      return std::move(out_);
    }
    WEXLO_CHECK(write_back());
    out_.bytes = Blob(image_.write());
    digests_.submit(0, [this]() -> Status {
      out_.sha256 = sha256_hex(out_.bytes);
      return {};
    });
    WEXLO_CHECK(account(stock_, out_, intent_, context_));
    WEXLO_CHECK(digests_.wait());
    return std::move(out_);
  }

 private:
  bool concerns(const Edit& edit) const {
    if (edit.on_vbmeta() != (image_.kind() == "vbmeta")) return false;
    if (!edit.partition.empty()) return edit.partition == role_.partition;
    // Verification flags of mount points stand wherever an fstab is.
    if (std::holds_alternative<FstabDropEdit>(edit.what)) return true;
    return role_.target || edit.on_vbmeta();
  }

  Status open_ramdisks(const std::vector<Recipe>& recipes) {
    const auto wanted = [&](const Edit& edit) { return !edit.on_vbmeta() && concerns(edit); };
    const bool needed = std::ranges::any_of(
        recipes, [&](const Recipe& recipe) { return std::ranges::any_of(recipe.edits, wanted); });
    if (!needed) return {};
    for (const boot::RamdiskPart& part : boot::ramdisk_parts(image_)) {
      if (part.bytes.empty()) continue;
      auto ramdisk = parse_ramdisk(part.bytes, decode_limit(context_));
      if (!ramdisk)
        return fail(at_base(std::move(ramdisk).error(), part.offset + part.header.size()));
      WEXLO_CHECK(check_places(*ramdisk));
      ramdisks_.push_back({part, std::move(*ramdisk), {}});
    }
    choose(home());
    if (ramdisk_ == nullptr) return {};
    WEXLO_TRY(const auto journal, read_journal(*ramdisk_));
    journal_ = journal.value_or(Journal{"", stock_.bytes.size(), {}});
    return {};
  }

  struct Opened {
    boot::RamdiskPart part;
    Ramdisk ramdisk;
    Intent::Entries intent;
  };

  /// The ramdisk that new files and the journal go to: of vendor_boot's fragments the first that
  /// every start loads.
  Opened* home() {
    const auto always = [](const Opened& one) {
      const auto type = static_cast<boot::RamdiskType>(one.part.type);
      return type != boot::RamdiskType::Recovery && type != boot::RamdiskType::Dlkm;
    };
    const auto at = std::ranges::find_if(ramdisks_, always);
    if (at != ramdisks_.end()) return &*at;
    return ramdisks_.empty() ? nullptr : &ramdisks_.front();
  }

  void choose(Opened* one) {
    opened_ = one;
    ramdisk_ = one == nullptr ? nullptr : &one->ramdisk;
  }

  /// The ramdisk that has a place: of several the home one.
  void choose_by(const std::string& place) {
    choose(home());
    if (ramdisk_ == nullptr || find_entry(*ramdisk_, place)) return;
    for (Opened& one : ramdisks_)
      if (find_entry(one.ramdisk, place)) return choose(&one);
  }

  Status apply(const Edit& edit) {
    EditReport report{.recipe = edit.recipe,
                      .kind = edit.kind,
                      .summary = edit.summary(),
                      .may_miss = edit.may_miss};
    if (concerns(edit)) {
      WEXLO_TRY(report.outcome, perform(edit, report.details));
    }
    // Done on an earlier run: what it matched then is no longer there to be matched.
    if (report.outcome == Outcome::NoMatch && journal_.has(edit.digest()))
      report.outcome = Outcome::AlreadyDone;
    if (report.outcome == Outcome::Applied) {
      out_.changed = true;
      if (!edit.on_vbmeta() && !journal_.has(edit.digest()))
        journal_.edits.push_back({edit.recipe, edit.kind, edit.summary(), edit.digest()});
    }
    out_.edits.push_back(std::move(report));
    return {};
  }

  Result<Outcome> perform(const Edit& edit, std::vector<std::string>& details) {
    if (const auto* flags = std::get_if<VbmetaFlagsEdit>(&edit.what))
      return set_flags(*flags, details);
    if (ramdisks_.empty()) return Outcome::NoMatch;
    if (const auto* put_edit = std::get_if<PutEdit>(&edit.what)) {
      choose_by(put_edit->path);
      return put(*put_edit, details);
    }
    if (const auto* drop = std::get_if<FstabDropEdit>(&edit.what)) return fstabs(*drop, details);
    const auto& property = std::get<PropertyEdit>(edit.what);
    choose_by(property.file);
    return properties(property, details);
  }

  void intend(const std::string& place, View content, const std::string& cause) {
    opened_->intent[place] = {sha256_hex(content), cause};
  }

  Status add(Entry entry, const std::string& cause) {
    const Blob content = entry.data();
    WEXLO_TRY(const auto made, add_entry(*ramdisk_, std::move(entry)));
    for (const std::string& place : made)
      intend(place, place == made.back() ? content.view() : View{}, cause);
    return {};
  }

  /// Copies the stock entry as it is, owner and mode included, under the kept files' folder.
  Status keep_stock_file(const std::string& path, EntryAt at, std::vector<std::string>& details) {
    const std::string kept = std::string(kStockFolder) + path;
    // Kept on an earlier run: what stands in the place now is not the stock file.
    if (find_entry(*ramdisk_, kept)) return {};
    const Entry& old = entry_at(*ramdisk_, at);
    Entry copy = Entry::make(kept, old.mode(), content_of(*ramdisk_, at));
    copy.set(Field::Uid, old.get(Field::Uid));
    copy.set(Field::Gid, old.get(Field::Gid));
    copy.set(Field::RdevMajor, old.get(Field::RdevMajor));
    copy.set(Field::RdevMinor, old.get(Field::RdevMinor));
    const std::uint32_t time = old.get(Field::Mtime);
    WEXLO_CHECK(add(std::move(copy), "keeps the stock /" + path));
    edit_entry(*ramdisk_, *find_entry(*ramdisk_, kept)).set(Field::Mtime, time);
    details.push_back(fmt::format("kept the stock file as /{}", kept));
    return {};
  }

  Result<Outcome> put(const PutEdit& edit, std::vector<std::string>& details) {
    const auto at = find_entry(*ramdisk_, edit.path);
    if (!at) {
      Entry entry = Entry::make(edit.path, newc::Regular | edit.mode.value_or(0644), edit.content);
      entry.set(Field::Uid, edit.uid.value_or(0));
      entry.set(Field::Gid, edit.gid.value_or(0));
      details.push_back(fmt::format("added /{} ({} bytes)", edit.path, edit.content.size()));
      WEXLO_CHECK(add(std::move(entry), "put by a recipe"));
      return Outcome::Applied;
    }
    const Entry& old = entry_at(*ramdisk_, *at);
    if (old.type() == newc::Directory)
      return fail({.code = ErrorCode::BadValue,
                   .message = fmt::format("cannot put a file at /{}: a folder is there", edit.path),
                   .hint = "Choose another path in the recipe."});
    const bool regular = old.type() == newc::Regular;
    const std::uint32_t mode = edit.mode.value_or(regular ? old.mode() & 07777u : 0644u);
    const std::uint32_t uid = edit.uid.value_or(old.get(Field::Uid));
    const std::uint32_t gid = edit.gid.value_or(old.get(Field::Gid));
    if (regular && equal(content_of(*ramdisk_, *at).view(), edit.content.view()) &&
        (old.mode() & 07777u) == mode && old.get(Field::Uid) == uid && old.get(Field::Gid) == gid)
      return Outcome::AlreadyDone;
    if (edit.keep_stock) WEXLO_CHECK(keep_stock_file(edit.path, *at, details));
    detach_links(*ramdisk_, *at);
    Entry& entry = edit_entry(*ramdisk_, *at);
    const std::string modes =
        (entry.mode() & 07777u) == mode
            ? fmt::format("mode {:04o}", mode)
            : fmt::format("mode {:04o} -> {:04o}", entry.mode() & 07777u, mode);
    details.push_back(fmt::format("replaced /{} ({} -> {} bytes, {})", edit.path,
                                  entry.data().size(), edit.content.size(), modes));
    entry.set(Field::Mode, newc::Regular | mode);
    entry.set(Field::Uid, uid);
    entry.set(Field::Gid, gid);
    entry.set(Field::RdevMajor, 0);
    entry.set(Field::RdevMinor, 0);
    entry.set_data(edit.content);
    intend(edit.path, edit.content.view(), "put by a recipe");
    return Outcome::Applied;
  }

  void rewrite(EntryAt at, const std::string& place, const std::string& text,
               const std::string& cause) {
    detach_links(*ramdisk_, at);
    edit_entry(*ramdisk_, at).set_data(Blob(to_bytes(text)));
    intend(place, as_view(text), cause);
  }

  /// Every fragment may have mount points.
  Result<Outcome> fstabs(const FstabDropEdit& edit, std::vector<std::string>& details) {
    Outcome outcome = Outcome::NoMatch;
    for (Opened& one : ramdisks_) {
      choose(&one);
      WEXLO_TRY(const Outcome here, fstab(edit, details));
      if (here != Outcome::NoMatch) outcome = here;
    }
    return outcome;
  }

  Result<Outcome> fstab(const FstabDropEdit& edit, std::vector<std::string>& details) {
    std::set<std::string> places;
    for (const RamdiskSegment& segment : ramdisk_->segments)
      for (const Entry& entry : segment.archive.entries)
        if (entry.type() == newc::Regular && is_fstab_name(newc::place_of(entry.name())))
          places.insert(newc::place_of(entry.name()));
    for (const std::string& place : places) {
      const EntryAt at = *find_entry(*ramdisk_, place);
      if (entry_at(*ramdisk_, at).type() != newc::Regular) continue;
      const FstabEdit done =
          drop_fstab_flags(as_text(content_of(*ramdisk_, at).view()), edit.mount_point, edit.flags);
      if (done.changes.empty()) continue;
      for (const std::string& change : done.changes)
        details.push_back(fmt::format("/{}: {}", place, change));
      rewrite(at, place, done.text, "fstab flags dropped");
    }
    return details.empty() ? Outcome::NoMatch : Outcome::Applied;
  }

  Result<Outcome> properties(const PropertyEdit& edit, std::vector<std::string>& details) {
    const auto at = find_entry(*ramdisk_, edit.file);
    if (!at || entry_at(*ramdisk_, *at).type() != newc::Regular) return Outcome::NoMatch;
    const std::string before(as_text(content_of(*ramdisk_, *at).view()));
    std::string text = before;
    for (const auto& [key, value] : edit.values) {
      std::string next = set_property(text, key, value);
      if (next != text) details.push_back(fmt::format("/{}: {}={}", edit.file, key, value));
      text = std::move(next);
    }
    if (text == before) return Outcome::AlreadyDone;
    rewrite(*at, edit.file, text, "property set");
    return Outcome::Applied;
  }

  Result<Outcome> set_flags(const VbmetaFlagsEdit& edit, std::vector<std::string>& details) {
    const std::uint64_t before = image_.number("flags");
    const std::uint64_t after = (before | edit.set) & ~std::uint64_t{edit.clear};
    if (before == after) return Outcome::AlreadyDone;
    WEXLO_CHECK(image_.set_number("flags", after));
    intent_.fields.insert("flags");
    details.push_back(fmt::format(
        "flags {} -> {} ({})", before, after,
        after == 0 ? "none set" : fmt::format("{}", fmt::join(verified::flag_names(after), ", "))));
    if (image_.number("algorithm_type") != 0)
      out_.notes.push_back(
          "The signature of vbmeta is stale now: an unlocked phone goes on, a "
          "locked one refuses it. Never lock the phone with this image.");
    return Outcome::Applied;
  }

  Status write_journal() {
    WEXLO_CHECK(digests_.wait());
    if (journal_.stock_sha256.empty()) journal_.stock_sha256 = stock_sha256_;
    const std::string text = format_journal(journal_);
    const std::string place(kJournalPlace);
    if (const auto at = find_entry(*ramdisk_, place)) {
      if (as_text(content_of(*ramdisk_, *at).view()) != text) rewrite(*at, place, text, "journal");
      return {};
    }
    return add(Entry::make(place, newc::Regular | 0600, Blob(to_bytes(text))), "journal");
  }

  Status write_back() {
    if (ramdisks_.empty()) return {};
    const auto id = boot::id_recipe(image_);
    choose(home());
    WEXLO_CHECK(write_journal());
    std::vector<parts::EditedRamdisk> edited;
    for (const Opened& one : ramdisks_)
      if (std::ranges::any_of(one.ramdisk.segments, &RamdiskSegment::touched))
        edited.push_back({one.part.index, &one.ramdisk});
    for (Opened& one : ramdisks_) {
      intent_.ramdisks[one.part.index] = std::move(one.intent);
      intent_.opened[one.part.index] = &one.ramdisk;
    }
    auto notes = parts::rebuild(image_, stock_.bytes, id, edited, context_);
    if (!notes) return fail(std::move(notes).error());
    out_.notes.insert(out_.notes.end(), notes->begin(), notes->end());
    return {};
  }

  const LoadedImage& stock_;
  const PatchRole& role_;
  const Context& context_;
  Image image_;
  std::vector<Opened> ramdisks_;
  Opened* opened_ = nullptr;  ///< the one at hand
  Ramdisk* ramdisk_ = nullptr;
  Journal journal_;
  Intent intent_;
  Patched out_;
  std::string stock_sha256_;
  TaskGroup digests_;  ///< last: it waits for its tasks before what they use is gone
};

}  // namespace

std::string partition_of(const LoadedImage& image) {
  if (!image.image) return std::string(image.format->kind);
  const auto footer = verified::find_footer(image.bytes.view());
  if (footer && *footer) {
    const auto vbmeta =
        verified::parse_vbmeta(image.bytes.part((*footer)->vbmeta_offset, (*footer)->vbmeta_size));
    const auto all =
        vbmeta ? verified::descriptors(*vbmeta) : Result<std::vector<verified::Descriptor>>{};
    for (const auto& descriptor : all ? *all : std::vector<verified::Descriptor>{})
      if (const auto* hash = std::get_if<verified::HashDescriptor>(&descriptor.value))
        return hash->partition;
  }
  return std::string(boot::partition_kind(*image.image));
}

Result<Patched> patch_image(const LoadedImage& stock, const PatchRole& role,
                            const std::vector<Recipe>& recipes, const Context& context) {
  if (!stock.image)
    return fail(
        {.code = ErrorCode::Unsupported,
         .message = fmt::format("an image of kind {} cannot be patched yet", stock.format->kind),
         .hint = "boot, init_boot, vendor_boot and vbmeta images can."});
  return Patcher(stock, role, context).run(recipes);
}

}  // namespace wexlo
