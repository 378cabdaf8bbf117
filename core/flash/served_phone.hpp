#pragma once
/// A simulated phone that answers hosts on this machine, in a thread of its own: for the demo, and
/// for whoever wants a phone without having one.

#include "flash/bench_phone.hpp"
#include "phone/address.hpp"

namespace wexlo {

class ServedPhone {
 public:
  /// In memory, at its bootloader; a host that calls while its system runs finds it there again.
  /// @param sheet, firmware  nullptr: none; the firmware has to outlive it
  /// Errors: those of filling it, Io (nothing can be listened at).
  [[nodiscard]] static Result<std::unique_ptr<ServedPhone>> begin(const Sheet* sheet,
                                                                  const Firmware* firmware,
                                                                  const Context& context);
  virtual ~ServedPhone() = default;
  [[nodiscard]] virtual const PhoneAddress& address() const = 0;
  /// How it started last; of one that was not started yet the verdict is "cannot tell".
  [[nodiscard]] virtual PoweredOn last_start() = 0;
};

}  // namespace wexlo
