#include "recipe/patch.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/contains.hpp"
#include "base/digest.hpp"
#include "base/error_kinds.hpp"
#include "image/boot.hpp"
#include "image/kernel.hpp"
#include "recipe/conditions.hpp"
#include "recipe/patch_write.hpp"
#include "recipe/way_back.hpp"
#include "recipe/work.hpp"

namespace wexlo {
namespace {

/// Who asks for an edit that no recipe has.
constexpr std::string_view kLayoutRecipe = "(layout)";

bool is_ramdisk_home(Home home) {
  return home == Home::StartRamdisk || home == Home::VendorRamdisk || home == Home::RecoveryRamdisk;
}

Error of_recipe(const std::string& recipe, std::size_t line, Error error) {
  error.message = line == 0 ? fmt::format("recipe {}: {}", recipe, error.message)
                            : fmt::format("recipe {}, line {}: {}", recipe, line, error.message);
  return error;
}

/// One image being edited.
class Patcher {
 public:
  Patcher(const LoadedImage& stock, const PatchRole& role, const Context& context)
      : work_(stock, role, context), digests_(context) {}

  Result<Patched> run(const std::vector<Recipe>& recipes) {
    // Hashed while the ramdisk is read: the journal holds the stock image's digest.
    stock_sha256_ = work_.role.sha256;
    if (stock_sha256_.empty())
      digests_.submit(0, [this]() -> Status {
        stock_sha256_ = sha256_hex(work_.stock.bytes);
        return {};
      });
    WEXLO_CHECK(open_ramdisks(recipes));
    WEXLO_CHECK(fill_in(recipes));
    for (const Recipe& recipe : recipes_) {
      WEXLO_CHECK(check_needs(recipe));
      for (const Edit& edit : recipe.edits)
        WEXLO_CHECK(one_edit(edit));
    }
    WEXLO_CHECK(write_lists());
    WEXLO_CHECK(what_the_layout_asks());
    if (created_) WEXLO_CHECK(drop_empty_ramdisk(work_));
    WEXLO_CHECK(digests_.wait());
    if (!differs()) return unchanged();
    WEXLO_CHECK(write_patched(work_, std::move(journal_), stock_sha256_));
    return std::move(work_.out);
  }

 private:
  bool concerns(const Edit& edit) const { return wexlo::concerns(work_.image, work_.role, edit); }

  Status open_ramdisks(const std::vector<Recipe>& recipes) {
    const auto wanted = [&](const Edit& edit) { return concerns(edit); };
    const bool needed = std::ranges::any_of(
        recipes, [&](const Recipe& recipe) { return std::ranges::any_of(recipe.edits, wanted); });
    if (!needed) return {};
    const auto opens = [&](const Edit& edit) {
      return concerns(edit) && (is_ramdisk_home(edit.home) || edit.home == Home::Mounts);
    };
    const bool in_ramdisk = std::ranges::any_of(
        recipes, [&](const Recipe& recipe) { return std::ranges::any_of(recipe.edits, opens); });
    WEXLO_TRY(const ReadRamdisks read, work_.stock.decoded->ramdisks(work_.context));
    for (const auto& [part, ramdisk, trouble] : *read) {
      if (part.bytes.empty()) continue;
      // A header or a kernel can be edited beside a ramdisk that nobody here reads.
      if (!ramdisk && !in_ramdisk) continue;
      if (!ramdisk) return fail(*trouble);
      WEXLO_CHECK(check_places(*ramdisk));
      work_.ramdisks.push_back({part, *ramdisk, {}});
    }
    WEXLO_CHECK(create_ramdisk(recipes));
    if (work_.home() == nullptr) return {};
    for (const OpenRamdisk& one : work_.ramdisks) {
      WEXLO_TRY(auto found, read_journal(one.ramdisk));
      if (!found) continue;
      journal_ = std::move(*found);
      work_.patched_before = true;
    }
    if (!work_.patched_before)
      journal_ = {.stock_sha256 = "",
                  .stock_sha1 = {},
                  .stock_size = work_.stock.bytes.size(),
                  .edits = {},
                  .way_back = {},
                  .shows = {},
                  .foreign = work_.role.foreign,
                  .ramdisk_made = created_};
    work_.ramdisk_made = journal_.ramdisk_made;
    PhoneFacts& phone = work_.phone;
    if (phone.architecture.empty()) phone.architecture = architecture_of(work_.home()->ramdisk);
    if (!journal_.ramdisk_made)
      layout_ = layout_of(work_.home()->ramdisk, signs_of(work_.image, work_.role.partition,
                                                          *work_.stock.decoded, work_.context));
    return {};
  }

  /// Where an edit asks for it.
  Status create_ramdisk(const std::vector<Recipe>& recipes) {
    const auto asks = [&](const Edit& edit) { return edit.creates && concerns(edit); };
    const bool asked = std::ranges::any_of(
        recipes, [&](const Recipe& recipe) { return std::ranges::any_of(recipe.edits, asks); });
    if (asked) {
      WEXLO_TRY(created_, make_ramdisk(work_));
    }
    return {};
  }

  /// Puts what is known of this image into the recipes' texts.
  Status fill_in(const std::vector<Recipe>& recipes) {
    recipes_ = recipes;
    for (Recipe& recipe : recipes_) {
      std::set<std::string> open;
      for (const Edit& edit : recipe.edits)
        if (concerns(edit)) open.insert(edit.open.begin(), edit.open.end());
      if (open.empty()) continue;
      WEXLO_TRY(const Values values, values_here(open));
      WEXLO_TRY(recipe, with_values(recipe, values));
    }
    return {};
  }

  /// What is known of phone and image. @param asked  what is dear is looked up for these alone
  Result<Values> values_here(const std::set<std::string>& asked) {
    if (asked.contains("arch") && work_.phone.architecture.empty())
      (void)work_.kernel_architecture();
    Values out = work_.phone.values();
    out["partition"] = work_.role.partition;
    out["layout"] = layout_name(layout_);
    // Without a ramdisk there is no journal: whether it is the stock image nothing tells.
    if (work_.ramdisks.empty()) return out;
    if (asked.contains("stock_sha256")) {
      WEXLO_CHECK(digests_.wait());
      out["stock_sha256"] = work_.patched_before ? journal_.stock_sha256 : stock_sha256_;
    }
    if (asked.contains("stock_sha1")) {
      WEXLO_CHECK(find_stock_sha1());
      if (!journal_.stock_sha1.empty()) out["stock_sha1"] = journal_.stock_sha1;
    }
    return out;
  }

  Status find_stock_sha1() {
    if (!journal_.stock_sha1.empty()) return {};
    if (!work_.patched_before) {
      journal_.stock_sha1 = hex(digest(DigestKind::Sha1, work_.stock.bytes.view()));
      return {};
    }
    WEXLO_CHECK(find_original());
    if (work_.original)
      journal_.stock_sha1 = hex(digest(DigestKind::Sha1, work_.original->bytes.view()));
    return {};
  }

  /// The stock image of one that was patched before, where its way back leads there.
  Status find_original() {
    if (!work_.patched_before || work_.original || !journal_.way_back.empty()) return {};
    const auto bytes = follow_way_back(work_.stock, journal_, work_.context);
    if (!bytes && is_of_this_run(bytes.error().code)) return fail(bytes.error());
    if (bytes) {
      WEXLO_TRY(work_.original, load_image(*bytes, "the stock image"));
    }
    return {};
  }

  /// A clause for people: why the edit acts here.
  std::string why(const Edit& edit) const {
    if (!edit.partition.empty())
      return fmt::format("the recipe names partition {}", edit.partition);
    const std::string where = work_.role.partition.empty() ? "the image" : work_.role.partition;
    if (edit.home == Home::StartRamdisk) return fmt::format("{}: {}", where, layout_about(layout_));
    return fmt::format("{} has {}", where, home_name(edit.home));
  }

  Status check_needs(const Recipe& recipe) {
    if (recipe.needs.empty() || !work_.role.target || work_.image.kind() == "vbmeta") return {};
    auto reason = failing(recipe.needs, work_, layout_);
    if (!reason) return fail(of_recipe(recipe.name, 0, std::move(reason).error()));
    if (reason->empty()) return {};
    return fail(
        {.code = ErrorCode::Mismatch,
         .message = fmt::format("recipe {} is not for this image: {}", recipe.name, *reason),
         .hint = "Its [needs] say so. Take the recipe for this phone."});
  }

  Status one_edit(const Edit& edit) {
    EditReport report{.recipe = edit.recipe,
                      .kind = edit.kind,
                      .summary = edit.summary(),
                      .may_miss = edit.may_miss};
    if (concerns(edit)) {
      report.why = why(edit);
      if (std::holds_alternative<ChangeListEdit>(edit.what)) {
        lists_.emplace_back(&edit, work_.out.edits.size());
      } else {
        WEXLO_TRY(report.outcome, try_edit(edit, report));
      }
    } else {
      report.why = edit.partition.empty() ? fmt::format("it is for {}: {}", home_name(edit.home),
                                                        home_images(edit.home))
                                          : fmt::format("it is for partition {}", edit.partition);
    }
    work_.out.edits.push_back(std::move(report));
    return {};
  }

  /// Lists of what was changed come when all else is done; their reports keep their places.
  Status write_lists() {
    // Each has the places of all of them, whichever is written first.
    for (const auto& [edit, number] : lists_) {
      WEXLO_TRY(const std::string reason, left_out(*edit));
      if (reason.empty()) work_.change_lists.insert(edit->place());
    }
    for (const auto& [edit, number] : lists_) {
      WEXLO_CHECK(find_original());
      EditReport report = work_.out.edits[number];
      WEXLO_TRY(report.outcome, try_edit(*edit, report));
      work_.out.edits[number] = std::move(report);
    }
    return {};
  }

  /// Why its conditions do not hold; empty: they do.
  Result<std::string> left_out(const Edit& edit) {
    if (edit.when.empty()) return std::string();
    auto reason = failing(edit.when, work_, layout_);
    if (!reason) return fail(of_recipe(edit.recipe, edit.line, std::move(reason).error()));
    return std::move(*reason);
  }

  Result<Outcome> try_edit(const Edit& edit, EditReport& report) {
    WEXLO_TRY(std::string reason, left_out(edit));
    if (!reason.empty()) {
      report.why = std::move(reason);
      return Outcome::Skipped;
    }
    if (!edit.open.empty()) {
      Error error = unknown_value(*edit.open.begin(), work_.phone);
      return fail(of_recipe(edit.recipe, edit.line, std::move(error)));
    }
    const bool known = journal_.has(edit.digest());
    work_.edit = &edit;
    work_.is_known = known;
    work_.report = &report;
    work_.opened = work_.ramdisk_for(edit);
    const bool in_ramdisk = is_ramdisk_home(edit.home);
    // What is gone cannot be looked for again: the same place in another fragment is another's. And
    // a ramdisk that was put in whole carries the journal that says so.
    if (known && in_ramdisk &&
        (std::holds_alternative<PartEdit>(edit.what) ||
         std::holds_alternative<RemoveEdit>(edit.what) ||
         std::holds_alternative<MoveEdit>(edit.what)))
      return Outcome::AlreadyDone;
    if (in_ramdisk && work_.opened == nullptr) return Outcome::NoMatch;
    WEXLO_TRY(Outcome outcome,
              std::visit([this](const auto& one) { return apply(work_, one); }, edit.what));
    // Done on an earlier run: what it matched then is no longer there to be matched.
    if (outcome == Outcome::NoMatch && known) outcome = Outcome::AlreadyDone;
    if (outcome == Outcome::Applied && work_.image.kind() != "vbmeta" && !known) remember(edit);
    return outcome;
  }

  void remember(const Edit& edit) {
    journal_.edits.push_back({edit.recipe, edit.kind, edit.summary(), edit.digest()});
    // Who brings a program shows that it runs; the recipe's other edits may be in other images.
    if (edit.file() == nullptr) return;
    for (const std::string& text : edit.shows)
      if (!contains(journal_.shows, text)) journal_.shows.push_back(text);
  }

  /// What takes init's place does not run where the kernel passes the ramdisk over. Whether a
  /// loader asks for that no image tells: of the header versions of that time each kernel that
  /// knows the word is kept from it.
  Status what_the_layout_asks() {
    if (work_.home() == nullptr) return {};
    const bool alone = layout_ == RamdiskLayout::SystemRoot;
    const bool init = work_.home()->meant.contains("init");
    const bool kept = std::ranges::find(journal_.edits, kLayoutRecipe, &JournalEdit::recipe) !=
                      journal_.edits.end();
    if (alone && !init && !kept && !work_.home()->meant.empty())
      work_.note(
          "This ramdisk is recovery's alone: the edits in it have no effect on a normal "
          "start.");
    if (!init || work_.image.kind() != "boot" || work_.image.layout().version > 2) return {};
    layout_edit_ = {
        .kind = "kernel-bytes", .recipe = std::string(kLayoutRecipe), .home = Home::Kernel};
    EditReport report{
        .recipe = std::string(kLayoutRecipe),
        .kind = "kernel-bytes",
        .summary = fmt::format("replace \"{}\" by \"{}\", wherever it stands", kernel::kSkipWord,
                               kernel::kKeepWord),
        .why = alone ? fmt::format("{}: without it the new /init would never run",
                                   layout_about(layout_))
                     : "a loader may ask for it, and then the new /init would never run"};
    work_.edit = &layout_edit_;
    work_.report = &report;
    WEXLO_TRY(report.outcome, keep_ramdisk(work_, alone));
    if (report.outcome == Outcome::NoMatch && !alone) return {};
    if (report.outcome == Outcome::Applied) {
      report.details.emplace_back(
          alone
              ? "a normal start runs this ramdisk's /init now: it has to hand over to the system's"
              : "a normal start runs this ramdisk's /init, whatever the loader asks for");
      if (!kept)
        journal_.edits.push_back(
            {report.recipe, report.kind, report.summary, layout_edit_.digest()});
    }
    work_.out.added.push_back(std::move(report));
    return {};
  }

  /// Edits may have undone each other: only what is left in the end counts.
  bool differs() const {
    bool changed = work_.intent.fragments.has_value();
    for (const OpenRamdisk& one : work_.ramdisks)
      changed |=
          one.replaced || std::ranges::any_of(one.ramdisk.segments, [](const auto& segment) {
            return segment.touched && !equal(newc::write(segment.archive), segment.decoded.view());
          });
    return changed || work_.intent.struct_flags ||
           !equal(work_.image.write(), work_.stock.bytes.view());
  }

  Patched unchanged() {
    Patched& out = work_.out;
    out.bytes = work_.stock.bytes;
    out.sha256 = stock_sha256_;
    for (auto* list : {&out.edits, &out.added})
      for (EditReport& edit : *list)
        if (edit.outcome == Outcome::Applied) edit.outcome = Outcome::AlreadyDone;
    out.way_back = {work_.patched_before && journal_.way_back.empty(), 0,
                    !work_.patched_before       ? "nothing was changed"
                    : journal_.way_back.empty() ? "the image carries it"
                                                : journal_.way_back};
    return std::move(out);
  }

  Work work_;
  std::vector<Recipe> recipes_;                             ///< with what is known of the image
  std::vector<std::pair<const Edit*, std::size_t>> lists_;  ///< and the places of their reports
  Journal journal_;
  RamdiskLayout layout_ = RamdiskLayout::None;
  bool created_ = false;  ///< the image had no ramdisk
  Edit layout_edit_;
  std::string stock_sha256_;
  TaskGroup digests_;  ///< last: it waits for its tasks before what they use is gone
};

}  // namespace

bool concerns(const Image& image, const PatchRole& role, const Edit& edit) {
  if (!can_hold(image, edit.home)) return false;
  if (!edit.partition.empty()) return edit.partition == role.partition;
  // Of the header's fields vendor_boot has few: it is meant only when it is named.
  if (edit.home == Home::Header && image.kind() == "vendor_boot") return false;
  if (role.homes) return role.homes->contains(edit.home);
  // Whether there is a vbmeta partition the image alone does not tell.
  if (edit.home == Home::Vbmeta) return image.kind() == "vbmeta";
  return role.target || edit.home == Home::Mounts;
}

Result<Patched> patch_image(const LoadedImage& stock, const PatchRole& role,
                            const std::vector<Recipe>& recipes, const Context& context) {
  if (!stock.image)
    return fail(
        {.code = ErrorCode::Unsupported,
         .message = fmt::format("an image of kind {} cannot be patched yet", stock.format->kind),
         .hint = "boot, init_boot, recovery, vendor_boot, vbmeta and device-tree images can."});
  return Patcher(stock, role, context).run(recipes);
}

}  // namespace wexlo
