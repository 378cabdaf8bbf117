#include "phone/simulated/started.hpp"

#include <array>
#include <cstddef>

namespace wexlo {
namespace {

/// In the order of the enums.
constexpr std::array<std::string_view, 5> kVerdicts{"starts", "starts-with-warning", "other-slot",
                                                    "stops", "cannot-tell"};
constexpr std::array<std::string_view, 24> kCauses{"none",
                                                   "slot-not-written",
                                                   "slot-unbootable",
                                                   "no-tries-left",
                                                   "not-verified",
                                                   "verification-warns",
                                                   "rollback",
                                                   "no-kernel",
                                                   "image-form",
                                                   "ramdisk-format",
                                                   "ramdisk-joint",
                                                   "no-first-program",
                                                   "first-program",
                                                   "mount-table",
                                                   "other-ramdisk",
                                                   "patch-level",
                                                   "data-unreadable",
                                                   "update-half-done",
                                                   "recovery-restored",
                                                   "vbmeta-not-along",
                                                   "step-failed",
                                                   "data-wiped",
                                                   "other-rule",
                                                   "not-known"};
constexpr std::array<std::string_view, 3> kAddon{"seen", "not-seen", "none"};

}  // namespace

std::string_view start_word(StartVerdict verdict) {
  return kVerdicts[static_cast<std::size_t>(verdict)];
}
std::string_view cause_word(StartCause cause) {
  return kCauses[static_cast<std::size_t>(cause)];
}
std::string_view addon_word(AddonSeen addon) {
  return kAddon[static_cast<std::size_t>(addon)];
}

}  // namespace wexlo
