#include "phone/fastboot/link.hpp"

#include <fmt/format.h>

namespace wexlo {

std::string address_text(const PhoneAddress& address) {
  const bool bracketed = address.host.find(':') != std::string::npos;
  const std::string host = bracketed ? "[" + address.host + "]" : address.host;
  switch (address.wire) {
    case Wire::Tcp: return fmt::format("fastboot+tcp://{}:{}", host, address.port);
    case Wire::Udp: return fmt::format("fastboot+udp://{}:{}", host, address.port);
    case Wire::Usb: break;
  }
  return "fastboot+usb://" + address.serial;
}

Result<LinkPtr> connect_phone(const PhoneAddress& address, const Context& context,
                              const Patience& patience) {
  switch (address.wire) {
    case Wire::Tcp: return connect_tcp(address, context, patience);
    case Wire::Udp: return connect_udp(address, context, patience);
    case Wire::Usb: break;
  }
  return connect_usb(address, context, patience);
}

}  // namespace wexlo
