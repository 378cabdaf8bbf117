#include "job/kit_plan.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "base/contains.hpp"
#include "kit/facts/demands.hpp"

namespace wexlo {
namespace {

/// What the bootloader calls the phone: by the sheet, by the package's own info text, by its build.
std::string products_of(const BuildFacts& build, const PrepareOptions& options) {
  if (options.sheet && !options.sheet->text("phone.product").empty())
    return options.sheet->text("phone.product");
  for (const std::string& line : build.demands)
    if (const auto want = parse_demand(line); want && want->kind == Demand::Kind::Require &&
                                              want->only_for.empty() &&
                                              (want->name == "board" || want->name == "product"))
      return fmt::format("{}", fmt::join(want->values, "|"));
  return build.device;
}

}  // namespace

Plan plan_of(const Prepared& prepared, const PrepareOptions& options, const KitSources& sources,
             PlanFacts facts) {
  facts.device = prepared.build.device;
  facts.build = prepared.build.fingerprint;
  facts.products = products_of(prepared.build, options);
  facts.slots = prepared.slots;
  facts.wipe = options.wipe;
  facts.verification = prepared.verification.needs;
  facts.verification_why = prepared.verification.why;
  facts.key_sha256 = prepared.verification.key_sha256;
  facts.way = prepared.shape.way;
  facts.slotted = prepared.shape.slotted.value_or(true);
  facts.restore = options.stock;
  facts.recovery_only = prepared.target.partition == "recovery";
  facts.own_recovery = std::ranges::any_of(facts.images, [](const PlanImage& one) {
    return one.partition == "recovery" && one.what != "stock";
  });
  facts.other_system = prepared.other_system;
  facts.anti_rollback = prepared.build.anti_rollback;
  facts.contents_source = fmt::format("the stock package {}", sources.name());
  if (options.sheet) {
    const Sheet& sheet = *options.sheet;
    facts.lock = sheet.text("state.lock");
    facts.this_slot = sheet.text("state.current_slot");
    for (const auto& [name, note] : sheet.access)
      facts.access.emplace(name, note);
  }
  if (prepared.purpose == Purpose::Update) {
    const SettingsParts parts = settings_parts(sources.path);
    facts.update =
        PlanUpdate{sources.name(), contains(sources.firmware().layers, "payload", &Layer::kind),
                   parts.keeping, parts.wiping};
  }
  return make_plan(facts);
}

}  // namespace wexlo
