#pragma once
/// Where a phone is reached: `fastboot+tcp://HOST[:PORT]`, `fastboot+udp://HOST[:PORT]`,
/// `fastboot+usb://[SERIAL]`. A host with colons stands in brackets.

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "base/error.hpp"

namespace wexlo {

enum class Wire { Tcp, Udp, Usb };

struct PhoneAddress {
  Wire wire = Wire::Tcp;
  std::string host;           ///< name or number; empty for USB
  std::uint16_t port = 5554;  ///< the protocol's own
  std::string serial;         ///< of USB; empty: the only phone there
};

/// Errors: Usage (a form that is none of these).
[[nodiscard]] Result<PhoneAddress> parse_address(std::string_view text);
[[nodiscard]] Result<std::vector<PhoneAddress>> parse_addresses(
    const std::vector<std::string>& texts);

}  // namespace wexlo
