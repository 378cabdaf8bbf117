#include "phone/phone.hpp"

#include <array>

#include "base/word_table.hpp"

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
  return of_word<PhoneMode>(kModes, word);
}

}  // namespace wexlo
