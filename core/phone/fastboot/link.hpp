#pragma once
/// The wire to a phone's bootloader, message by message; what the messages say is in command.hpp.
/// One side at a time: a message out, then messages in until the last of the reply. Both ends of a
/// wire are links: the phone's own comes from listen.hpp.

#include <chrono>
#include <memory>

#include "base/bytes.hpp"
#include "base/pool.hpp"
#include "phone/address.hpp"

namespace wexlo {

using std::chrono::milliseconds;

class Link {
 public:
  Link() = default;
  Link(const Link&) = delete;
  Link& operator=(const Link&) = delete;
  virtual ~Link() = default;
  /// Errors: LinkLost, Interrupted.
  [[nodiscard]] virtual Status send(View message) = 0;
  /// The next message. Errors: LinkLost (closed, silent for too long, not this protocol),
  /// LimitExceeded (longer than any reply), Interrupted.
  [[nodiscard]] virtual Result<Bytes> receive() = 0;
  /// A piece of a data phase. @param more  another piece of the same phase follows
  [[nodiscard]] virtual Status send_data(View piece, bool more) = 0;
  /// Fills `out` with what comes in a data phase. Errors: those of receive.
  [[nodiscard]] virtual Status receive_data(MutableView out) = 0;
  /// How long silence is borne from now on.
  virtual void bear_silence(milliseconds limit) = 0;
};
using LinkPtr = std::unique_ptr<Link>;

/// How long silence is borne.
struct Patience {
  milliseconds connect{10'000};
  milliseconds reply{60'000};  ///< a bootloader that thinks says nothing
  milliseconds resend{500};    ///< of packets that may be lost
};

/// No reply to a command is longer; what a phone says is not believed to be.
inline constexpr std::size_t kMaxMessage = 64u << 10;

/// Errors: LinkLost (nobody there), Unsupported (another version), Interrupted; over USB also
/// Permission, and Ambiguous (several phones, and no serial was given).
[[nodiscard]] Result<LinkPtr> connect_phone(const PhoneAddress& address, const Context& context,
                                            const Patience& patience = {});
[[nodiscard]] Result<LinkPtr> connect_tcp(const PhoneAddress& address, const Context& context,
                                          const Patience& patience);
[[nodiscard]] Result<LinkPtr> connect_udp(const PhoneAddress& address, const Context& context,
                                          const Patience& patience);
[[nodiscard]] Result<LinkPtr> connect_usb(const PhoneAddress& address, const Context& context,
                                          const Patience& patience);

/// The address as errors name it.
[[nodiscard]] std::string address_text(const PhoneAddress& address);

}  // namespace wexlo
