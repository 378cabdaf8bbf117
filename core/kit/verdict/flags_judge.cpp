#include "kit/verdict/flags_judge.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "firmware/top_struct.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {
namespace {

class FlagsJudge {
 public:
  FlagsJudge(const FlagsInput& input, const Context& context) : in_(input), context_(context) {}

  Result<std::vector<Finding>> run() {
    if (in_.restore) return std::move(out_);
    WEXLO_CHECK(data());
    WEXLO_CHECK(download());
    dropped();
    return std::move(out_);
  }

 private:
  void add(FindingId id, std::string message, std::string where = "") {
    const Level level = kind_of(id.code).level;
    out_.push_back({level, std::move(id), std::move(message), std::move(where)});
  }

  /// Some loaders read no property descriptor then, and where the header has no patch level either
  /// the key store is given none.
  Status data() {
    if (!in_.walk.verification_disabled) return {};
    WEXLO_TRY(const auto top, top_struct(in_.stock, context_));
    if (top && (top->vbmeta.number("flags") & verified::VerificationDisabled) != 0) return {};
    for (const char* name : {"boot", "init_boot"}) {
      WEXLO_TRY(const LoadedImage* const image, in_.stock.get(name, context_));
      if (image == nullptr || !image->image ||
          image->image->layout().field("os_version") == nullptr)
        continue;
      if (image->image->number("os_version") != 0) return {};
      add(FindingCode::DataUnreadable,
          fmt::format("With verification disabled this phone's loader may read no patch level ({} "
                      "has none in its header): the user's data may become unreadable. Where it is "
                      "enough, disable the hash trees alone (flags 1).",
                      name),
          top ? std::string(top->partition) : "vbmeta");
      return {};
    }
    return {};
  }

  /// In download mode the first changed image of the boot chain brings a vbmeta with both flags.
  Status download() {
    if (in_.way != Way::Download || (in_.walk.verification_disabled && in_.walk.hashtrees_disabled))
      return {};
    WEXLO_TRY(const LoadedImage* const top, in_.stock.get("vbmeta", context_));
    if (top == nullptr) return {};
    const auto changed = std::ranges::find_if(in_.images, [](const KitImage& one) {
      return one.written && one.made != Made::Stock && is_boot_class(without_slot(one.partition));
    });
    if (changed == in_.images.end()) return {};
    add(FindingCode::VbmetaNeeded,
        fmt::format(
            "{} is changed, and vbmeta keeps its flags: phones with a download mode start a "
            "changed image only with a vbmeta whose flags are 3. Add a recipe that sets "
            "them.",
            changed->partition),
        "vbmeta");
    return {};
  }

  /// A generic system mounts what its own list does not name.
  void dropped() {
    if (!in_.other_system) return;
    for (const RoomPlan& room : in_.rooms)
      for (const RoomStep& step : room.steps) {
        const std::string name(without_slot(step.partition));
        if (step.act != RoomAct::Drop || (name != "product" && name != "system_ext")) continue;
        add({FindingCode::SkipList, name},
            fmt::format(
                "{} is dropped to make room: the system that goes in starts without it only "
                "if its own list of skipped mounts names {}.",
                step.partition, name),
            step.partition);
      }
  }

  const FlagsInput& in_;
  const Context& context_;
  std::vector<Finding> out_;
};

}  // namespace

Result<std::vector<Finding>> judge_flags(const FlagsInput& input, const Context& context) {
  return FlagsJudge(input, context).run();
}

}  // namespace wexlo
