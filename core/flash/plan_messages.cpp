#include "flash/plan_messages.hpp"

#include <fmt/format.h>

#include "kit/plan/plan_text.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

/// In the place of a slot's letter that only the phone knows.
constexpr std::string_view kOther = "{other}";

class Messages {
 public:
  explicit Messages(const std::vector<Step>& steps) : steps_(steps) {
    for (const Step& step : steps)
      if (const auto* want = step.get<act::Expect>();
          want != nullptr && want->variable == "current-slot")
        slot_ = want->value.substr(0, 1);
  }

  std::string run() {
    for (std::size_t i = 0; i < steps_.size(); ++i) {
      out_ += fmt::format("# {} {}: {}\n", i + 1, steps_[i].id, title(steps_[i]));
      std::visit(*this, steps_[i].act);
    }
    return std::move(out_);
  }

  void operator()(const act::Expect& one) { line("getvar:" + one.variable); }
  void operator()(const act::EnterMode& one) {
    switch (one.mode) {
      case Mode::Bootloader: return line("reboot-bootloader");
      case Mode::Userspace: return line("reboot-fastboot");
      case Mode::Recovery: return line("reboot-recovery");
      case Mode::Download: return by_hand();
    }
  }
  void operator()(const act::Write& one) {
    send(one.file);
    line("flash:" + with_slot(one.partition, one.slot));
  }
  void operator()(const act::Start& one) {
    send(one.file);
    line("boot");
  }
  void operator()(const act::Drop& one) { line("delete-logical-partition:" + one.partition); }
  void operator()(const act::Create& one) {
    line(fmt::format("create-logical-partition:{}:{}", one.partition, one.size));
  }
  void operator()(const act::Resize& one) {
    line(fmt::format("resize-logical-partition:{}:{}", one.partition, one.size));
  }
  void operator()(const act::ChooseSlot& one) {
    line("set_active:" + (one.letter.empty() ? std::string(kOther) : one.letter));
  }
  void operator()(const act::CancelUpdate&) { line("snapshot-update:cancel"); }
  void operator()(const act::Wipe&) { line("erase:userdata"); }
  void operator()(const act::Restart&) { line("reboot"); }
  void operator()(const act::Install&) { by_hand(); }
  void operator()(const act::HandOver&) { by_hand(); }
  void operator()(const act::ByHand&) { by_hand(); }

 private:
  static std::string title(const Step& step) {
    const auto* want = step.get<act::Expect>();
    return printable(want != nullptr ? "Check " + expectation(*want) : step_title(step));
  }
  void line(const std::string& text) { out_ += text + "\n"; }
  void by_hand() { line("#   by hand"); }
  void send(const KitFile& file) { line(fmt::format("download:{:08x}\t{}", file.size, file.file)); }
  /// Without a slot's letter the one is meant that the phone starts from.
  [[nodiscard]] std::string with_slot(const std::string& partition, SlotRole slot) const {
    if (slot == SlotRole::None || (slot == SlotRole::Current && slot_.empty())) return partition;
    if (slot_.empty()) return fmt::format("{}_{}", partition, kOther);
    const bool current = slot == SlotRole::Current;
    return partition + "_" + ((slot_ == "a") == current ? "a" : "b");
  }

  const std::vector<Step>& steps_;
  std::string slot_, out_;
};

}  // namespace

std::string plan_messages(const Plan& plan, const std::vector<Step>& steps) {
  return fmt::format(
             "# Requests of the bootloader's protocol for {}, in order; a file that is sent\n"
             "# stands behind a tab. {} stands for the slot that the phone does not start from.\n",
             printable(plan.device), kOther) +
         Messages(steps).run();
}

}  // namespace wexlo
