#include "phone/phone.hpp"

#include <algorithm>
#include <array>

namespace wexlo {
namespace {

/// In the order of the enum.
constexpr std::array<std::string_view, 5> kModes{"system", "bootloader", "userspace", "download",
                                                 "recovery"};

}  // namespace

std::string_view phone_mode_word(PhoneMode mode) {
  return kModes[static_cast<std::size_t>(mode)];
}

std::optional<PhoneMode> phone_mode_of(std::string_view word) {
  const auto* const at = std::ranges::find(kModes, word);
  if (at == kModes.end()) return std::nullopt;
  return static_cast<PhoneMode>(at - kModes.begin());
}

}  // namespace wexlo
