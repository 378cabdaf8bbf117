#include "kit/verdict/flags_judge.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "ramdisk/layout.hpp"
#include "ramdisk/ramdisk.hpp"
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
    WEXLO_TRY(const LoadedImage* const top, in_.stock.get("vbmeta", context_));
    const bool before = top != nullptr && top->image && top->image->kind() == "vbmeta" &&
                        (top->image->number("flags") & verified::VerificationDisabled) != 0;
    if (before) return {};
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
          "vbmeta");
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

constexpr std::uint32_t kUsualPage = 4096;

Result<std::uint32_t> page_size(StockImages& stock, const Context& context) {
  for (const char* name : {"boot", "kernel"}) {
    WEXLO_TRY(const LoadedImage* const image, stock.get(name, context));
    if (image == nullptr || image->decoded == nullptr) continue;
    WEXLO_TRY(const ReadKernel kernel, image->decoded->kernel(context));
    if (kernel) return kernel->page_size;
  }
  return 0;
}

/// Places of entries that the patch changed: the account spells them `what /place: cause`.
std::string place_in(const std::string& entry) {
  const std::size_t slash = entry.find('/');
  if (slash == entry.npos) return {};
  const std::string rest = entry.substr(slash + 1);
  return rest.substr(0, rest.find(": "));
}

}  // namespace

Result<std::vector<Finding>> judge_pages(const KitImages& images, StockImages& stock,
                                         const Context& context) {
  std::vector<Finding> out;
  WEXLO_TRY(const std::uint32_t pages, page_size(stock, context));
  if (pages <= kUsualPage) return out;
  for (const KitImage& one : images) {
    if (!one.written || !one.is_held() || one.patched.entries.empty()) continue;
    WEXLO_TRY(const LoadedImage image, load_image(one.patched.bytes, one.partition));
    if (image.decoded == nullptr) continue;
    WEXLO_TRY(const ReadRamdisks ramdisks, image.decoded->ramdisks(context));
    for (const ReadRamdisk& ramdisk : *ramdisks) {
      if (!ramdisk.ramdisk) continue;
      for (const std::string& entry : one.patched.entries) {
        const std::string place = place_in(entry);
        const auto at = find_entry(*ramdisk.ramdisk, place);
        if (!at) continue;
        const auto aligned = elf_alignment(content_of(*ramdisk.ramdisk, *at).view());
        if (!aligned || *aligned >= pages) continue;
        out.push_back(
            {kind_of(FindingCode::ProgramPages).level, FindingCode::ProgramPages,
             fmt::format("/{} is linked for pages of {} bytes, and the kernel has pages of "
                         "{}: it cannot start.",
                         place, *aligned, pages),
             one.partition});
      }
    }
  }
  return out;
}

Result<std::vector<Finding>> judge_flags(const FlagsInput& input, const Context& context) {
  return FlagsJudge(input, context).run();
}

}  // namespace wexlo
