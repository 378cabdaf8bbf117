#pragma once
/// How images reach a phone, and what the phone has to be for them.

#include <optional>
#include <string_view>

namespace wexlo {

enum class Slots {
  Current,  ///< the slot the phone starts from
  Both,     ///< only when the same build is known to be in both, or asked for
};

/// "current" or "both".
[[nodiscard]] std::optional<Slots> slots_of(std::string_view word);

/// How the phone takes images.
enum class Way {
  Bootloader,  ///< its bootloader writes what it is sent over the wire
  Download,    ///< download mode: a package is handed over to another program
};

/// The state that a phone has to be in to start what was written.
enum class Needs {
  Unknown,
  Unlocked,  ///< an unlocked bootloader
  OwnKey,    ///< a phone that trusts the kit's key
};
[[nodiscard]] std::string_view needs_word(Needs needs);  ///< "", "unlocked", "own-key"
[[nodiscard]] std::optional<Needs> needs_of(std::string_view word);

}  // namespace wexlo
