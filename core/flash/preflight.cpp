#include "flash/preflight.hpp"

#include <fmt/format.h>

#include "kit/facts/demands.hpp"
#include "kit/plan/plan_text.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

constexpr unsigned kLeastMillivolt = 3500;

class Preflight {
 public:
  explicit Preflight(const PreflightInput& input) : in_(input) {}

  Result<std::vector<Finding>> run() {
    bool changed = false;
    for (const Step& step : in_.steps) {
      // What comes after hands or another mode is asked when it is due.
      if (const auto* mode = step.get<act::EnterMode>())
        changed = changed || mode->mode != Mode::Bootloader;
      const auto* task = step.get<act::ByHand>();
      changed = changed || (task != nullptr && task->task == Task::Unlock);
      if (const auto* want = step.get<act::Expect>(); want != nullptr && !changed)
        WEXLO_CHECK(expected(step, *want));
      if (const auto* write = step.get<act::Write>()) WEXLO_CHECK(room(step, *write));
    }
    WEXLO_CHECK(battery());
    return std::move(out_);
  }

 private:
  void add(FindingCode code, Level level, std::string message, std::string where) {
    if (level == Level::Problem && in_.accepted.contains(where)) {
      level = Level::Warning;
      message += " (accepted)";
    }
    out_.push_back({level, code, std::move(message), std::move(where)});
  }

  Status expected(const Step& step, const act::Expect& want) {
    WEXLO_TRY(const auto found, in_.phone.variable(want.variable));
    if (!found || expectation_holds(want, *found)) return {};
    add(FindingCode::PhoneNotAsExpected, Level::Problem,
        fmt::format("The plan expects that {}; the phone says {}. {}", expectation(want), *found,
                    step.about),
        step.id);
    return {};
  }

  /// Of partitions whose size no step changes before.
  Status room(const Step& step, const act::Write& write) {
    if (write.pieces != 0) return {};
    std::string name = write.partition;
    WEXLO_TRY(const auto slot, in_.phone.variable("current-slot"));
    if (write.slot != SlotRole::None && slot) {
      std::string letter = slot->starts_with('_') ? slot->substr(1) : *slot;
      if (write.slot == SlotRole::Other) letter = letter == "a" ? "b" : "a";
      name += "_" + letter;
    }
    WEXLO_TRY(const auto logical, in_.phone.variable("is-logical:" + name));
    if (logical && *logical == "yes") return {};
    WEXLO_TRY(const auto told, in_.phone.variable("partition-size:" + name));
    const auto size = told ? parse_hex(*told) : std::nullopt;
    if (!size || *size >= write.file.size) return {};
    add(FindingCode::PhoneNotAsExpected, Level::Problem,
        fmt::format("{} has {} bytes on this phone, the image has {}.", name, *size,
                    write.file.size),
        step.id);
    return {};
  }

  Status battery() {
    WEXLO_TRY(const auto enough, in_.phone.variable("battery-soc-ok"));
    if (enough && *enough == "no") {
      add(FindingCode::PhoneNotAsExpected, Level::Problem,
          "The phone says that its battery is too low: charge it first. A phone that switches off "
          "in the middle of a write may not start.",
          "battery");
      return {};
    }
    WEXLO_TRY(const auto told, in_.phone.variable("battery-voltage"));
    const auto millivolt =
        told ? parse_number(told->substr(0, told->find_first_of("mM V"))) : std::nullopt;
    if (millivolt && *millivolt > 0 && *millivolt < kLeastMillivolt)
      add(FindingCode::PhoneNotAsExpected, Level::Warning,
          fmt::format("The battery has {} mV: charge it first.", *millivolt), "battery");
    return {};
  }

  const PreflightInput& in_;
  std::vector<Finding> out_;
};

}  // namespace

Result<std::vector<Finding>> look_before(const PreflightInput& input) {
  return Preflight(input).run();
}

}  // namespace wexlo
