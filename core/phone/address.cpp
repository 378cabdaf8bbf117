#include "phone/address.hpp"

#include <array>

#include <fmt/format.h>

#include "text/text.hpp"

namespace wexlo {
namespace {

Error no_address(std::string_view text) {
  return {.code = ErrorCode::Usage,
          .message = "this is no phone's address",
          .expected = "fastboot+tcp://HOST:PORT, fastboot+udp://HOST:PORT or fastboot+usb://SERIAL",
          .found = std::string(text),
          .hint = text.contains("://") || text.empty()
                      ? ""
                      : fmt::format("Did you mean fastboot+tcp://{}?", text)};
}

}  // namespace

Result<PhoneAddress> parse_address(std::string_view text) {
  constexpr std::array<std::pair<std::string_view, Wire>, 3> kWires{
      {{"fastboot+tcp://", Wire::Tcp},
       {"fastboot+udp://", Wire::Udp},
       {"fastboot+usb://", Wire::Usb}}};
  for (const auto& [scheme, wire] : kWires) {
    if (!text.starts_with(scheme)) continue;
    const std::string_view rest = text.substr(scheme.size());
    PhoneAddress out{.wire = wire, .host = {}, .serial = {}};
    if (wire == Wire::Usb) {
      out.serial = rest;
      return out;
    }
    const bool bracketed = rest.starts_with('[');
    const std::size_t end =
        bracketed ? rest.find(']') : std::min(rest.find_last_of(':'), rest.size());
    if (end == rest.npos) return fail(no_address(text));
    out.host = rest.substr(bracketed ? 1 : 0, bracketed ? end - 1 : end);
    const std::string_view port = rest.substr(std::min(end + (bracketed ? 1 : 0), rest.size()));
    if (!port.empty()) {
      const auto number = port.starts_with(':') ? parse_number(port.substr(1)) : std::nullopt;
      if (!number || *number == 0 || *number > 0xffff) return fail(no_address(text));
      out.port = static_cast<std::uint16_t>(*number);
    }
    const bool plain = out.host.find_first_of(bracketed ? "[]/@ " : "[]/@ :") == out.host.npos;
    if (out.host.empty() || !plain) return fail(no_address(text));
    return out;
  }
  if (text.starts_with("bridge+"))
    return fail({.code = ErrorCode::Unsupported,
                 .message = "a running phone, or its recovery, is not asked yet",
                 .found = std::string(text),
                 .hint = "Bring the phone into its bootloader, and give fastboot+usb:// or "
                         "fastboot+tcp://HOST."});
  return fail(no_address(text));
}

Result<std::vector<PhoneAddress>> parse_addresses(const std::vector<std::string>& texts) {
  std::vector<PhoneAddress> out;
  for (const std::string& one : texts) {
    WEXLO_TRY(PhoneAddress address, parse_address(one));
    out.push_back(std::move(address));
  }
  return out;
}

}  // namespace wexlo
