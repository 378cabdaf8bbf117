#pragma once
/// Commands of the bootloader's protocol, and what it answers.

#include "phone/link.hpp"

namespace wexlo {

struct PhoneReply {
  std::string text;                ///< of OKAY
  std::vector<std::string> lines;  ///< said on the way there
};

/// One command without a data phase, and the whole reply.
/// @param command  ASCII, at most 64 bytes: older bootloaders take no more
/// Errors: PhoneRefused (FAIL, with its text), LinkLost (no reply of this protocol), LimitExceeded
/// (more lines than any phone says), those of the link.
[[nodiscard]] Result<PhoneReply> ask_phone(Link& link, std::string_view command);

/// All variables that the bootloader tells, as `name: value` lines: what sheet_from_properties
/// takes. A variable that it does not know is left out: missing is unknown, not "no".
/// Errors: those of ask_phone but PhoneRefused.
[[nodiscard]] Result<std::string> phone_variables(Link& link, const Context& context);

}  // namespace wexlo
