#pragma once
/// A phone's end of the wire: a place where hosts call, one after the other.

#include <functional>

#include "phone/fastboot/link.hpp"

namespace wexlo {

/// Talks with one host until the link ends.
using Attend = std::function<void(Link& host)>;

class Listener {
 public:
  virtual ~Listener() = default;
  [[nodiscard]] virtual std::uint16_t port() const = 0;
  /// Hears hosts, one after the other, until a stop is asked for: it ends with an error then.
  /// Errors: Interrupted, LinkLost (the socket failed).
  [[nodiscard]] virtual Status run(const Attend& attend) = 0;
};

/// Listens on this machine alone, unless `host` says otherwise: who reaches it may write.
/// @param address  of TCP or UDP; port 0: any that is free  @param silence  borne of a host
/// Errors: Io (the port is taken), Usage (USB).
[[nodiscard]] Result<std::unique_ptr<Listener>> listen_at(const PhoneAddress& address,
                                                          milliseconds silence,
                                                          const Context& context);
[[nodiscard]] Result<std::unique_ptr<Listener>> listen_tcp(const PhoneAddress& address,
                                                           milliseconds silence,
                                                           const Context& context);
[[nodiscard]] Result<std::unique_ptr<Listener>> listen_udp(const PhoneAddress& address,
                                                           milliseconds silence,
                                                           const Context& context);

}  // namespace wexlo
