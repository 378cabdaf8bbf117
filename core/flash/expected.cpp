#include "flash/expected.hpp"

#include <algorithm>

#include "base/contains.hpp"
#include "image/partitions.hpp"

namespace wexlo {
namespace {

class Working {
 public:
  explicit Working(const ExpectedInput& input) : in_(input) {}

  Expected run() {
    const KitManifest& kit = in_.manifest;
    out_.device = kit.device;
    out_.build = kit.build;
    out_.patch_level = kit.patch_level;
    out_.slotted = kit.slotted.value_or(false);
    out_.needs = kit.verdict.needs;
    out_.stock = kit.purpose == Purpose::Restore;
    // After the way back, too: there it should not be seen any more.
    out_.shows = in_.shows;
    products();
    last_run();
    if (!out_.stock) patched();
    system();
    return std::move(out_);
  }

 private:
  void products() {
    for (const Step& step : in_.plan.steps) {
      const auto* want = step.get<act::Expect>();
      if (want == nullptr || want->variable != "product") continue;
      std::string_view all = want->value;
      while (!all.empty()) {
        const std::size_t end = std::min(all.find('|'), all.size());
        out_.products.emplace(all.substr(0, end));
        all.remove_prefix(std::min(end + 1, all.size()));
      }
    }
  }

  /// The log's last run decides what is on the phone: the plan, or its way back.
  void last_run() {
    const LoggedRun* const run = in_.runs.empty() ? nullptr : &in_.runs.back();
    std::string from = run == nullptr ? expected_slot() : run->slot;
    if (run != nullptr) {
      out_.log = true;
      out_.ended =
          run->ended && (run->steps.empty() || run->steps.back().outcome != StepOutcome::Failed);
      if (!out_.ended && !run->steps.empty()) out_.stopped = run->steps.back().id;
      out_.serial = run->serial;
      if (run->direction == Direction::Back) out_.stock = true;
    }
    const bool back = run != nullptr && run->direction == Direction::Back;
    const std::vector<Step>& steps = back ? in_.plan.back : in_.plan.steps;
    out_.wiped = std::ranges::any_of(steps, [](const Step& one) { return one.risk.data_loss; });
    if (!out_.slotted || from.empty()) return;
    out_.slot_from = run == nullptr ? "the plan" : "the flash log";
    for (const Step& step : steps)
      if (const auto* choose = step.get<act::ChooseSlot>())
        if (choose->slot == SlotRole::Other) from = from == "a" ? "b" : "a";
    // A package that the phone installs to its other slot makes it start from there.
    if (const bool installs =
            std::ranges::any_of(steps, [](const Step& one) { return one.is<act::Install>(); });
        installs) {
      out_.slot_from.clear();
      return;
    }
    if (in_.manifest.settings.slots != Slots::Both) out_.slot = from;
  }

  [[nodiscard]] std::string expected_slot() const {
    for (const Step& step : in_.plan.steps)
      if (const auto* want = step.get<act::Expect>();
          want != nullptr && want->variable == "current-slot")
        return want->value.substr(0, want->value.find('|'));
    return {};
  }

  void patched() {
    out_.signs = in_.signs;
    for (const KitImage& image : in_.manifest.images) {
      if (image.made != Made::Patched) continue;
      for (const EditReport& edit : image.patched.edits) {
        if (edit.outcome != Outcome::Applied && edit.outcome != Outcome::AlreadyDone) continue;
        out_.program =
            out_.program || edit.kind == "put" || edit.kind == "put-tree" || edit.kind == "part";
        if (edit.kind == "property") properties(edit);
      }
    }
    // What runs in recovery alone shows nothing in the system.
    if (in_.manifest.target.partition == "recovery") out_.program = false;
  }

  void properties(const EditReport& edit) {
    for (const Effect& effect : edit.effects) {
      const std::size_t colon = effect.where.rfind(':');
      if (colon == std::string::npos || effect.after.empty()) continue;
      out_.properties[effect.where.substr(colon + 1)] = {effect.after, effect.before};
    }
  }

  /// Another system than the maker's says a build of its own.
  void system() {
    for (const KitImage& image : in_.manifest.images) {
      if (image.made != Made::Given || !image.is_logical()) continue;
      const std::string bare(without_slot(image.logical));
      if (bare != "system" && bare != "product" && bare != "system_ext") continue;
      out_.build = image.given ? image.given->build.fingerprint : "";
      out_.patch_level.clear();
    }
  }

  const ExpectedInput& in_;
  Expected out_;
};

}  // namespace

Expected expected_of(const ExpectedInput& input) {
  return Working(input).run();
}

}  // namespace wexlo
