#pragma once
/// A simulated phone of the demo's, that a host reaches over TCP on this machine: whoever wants to
/// flash without having a phone.

#include "flash/bench_phone.hpp"
#include "phone/simulated/phone_server.hpp"

namespace wexlo {

class ServedPhone {
 public:
  /// In memory, at its bootloader; a host that calls while its system runs finds it there again.
  /// @param sheet, firmware  nullptr: none; the firmware has to outlive it
  /// Errors: those of filling it, Io (nothing can be listened at).
  [[nodiscard]] static Result<std::unique_ptr<ServedPhone>> begin(const Sheet* sheet,
                                                                  const Firmware* firmware,
                                                                  const Context& context);
  [[nodiscard]] const PhoneAddress& address() const { return address_; }
  /// How it started last; of one that was not started yet the verdict is "cannot tell".
  [[nodiscard]] PoweredOn last_start();

 private:
  ServedPhone(PhoneState state, StorePtr store) : phone_(std::move(state), std::move(store)) {}
  [[nodiscard]] Status open();

  SimulatedPhone phone_;
  StockStatePtr stock_;
  PoweredOn started_;
  PhoneAddress address_;
  PhoneServer server_{phone_, {.keys = true}};  ///< the last one: it ends before what it serves
};

}  // namespace wexlo
