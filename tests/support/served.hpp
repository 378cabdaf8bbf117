#pragma once
/// A simulated phone behind a wire on this machine, and hands for it.

#include "flash/simulated_hands.hpp"
#include "phone/fastboot/fastboot_phone.hpp"
#include "phone/simulated/phone_server.hpp"
#include "support/check.hpp"

namespace wexlo::test {

inline constexpr PhoneWaits kWaits{.link = {.connect = milliseconds(20'000),
                                            .reply = milliseconds(8'000),
                                            .resend = milliseconds(50)},
                                   .back = milliseconds(20'000),
                                   .again = milliseconds(5)};

/// A simulated phone that answers on this machine, in a thread of its own.
class WirePhoneServed {
 public:
  WirePhoneServed(std::unique_ptr<SimulatedPhone> phone, Wire wire) : phone_(std::move(phone)) {
    address_ =
        value_of(server_.listen({.wire = wire, .host = "127.0.0.1", .port = 0, .serial = {}}));
  }
  SimulatedPhone& phone() { return *phone_; }
  const PhoneAddress& address() const { return address_; }
  FastbootPhone client() { return FastbootPhone({address_}, {}, kWaits); }

 private:
  std::unique_ptr<SimulatedPhone> phone_;
  PhoneAddress address_;
  PhoneServer server_{*phone_, {}};

 public:
  std::mutex& turn = server_.turn;
};

/// Hands on a phone that a host talks to: one at a time.
class ServedHands final : public Hands {
 public:
  ServedHands(WirePhoneServed& phone, BenchFiles files)
      : phone_(phone), hands_(phone.phone(), std::move(files)) {}
  Result<std::string> by_hand(const Step& step, const act::ByHand& task, Phone& phone) override {
    const std::lock_guard mine(phone_.turn);
    return hands_.by_hand(step, task, phone);
  }
  Result<std::string> install(const Step& step, const act::Install& what, Phone& phone) override {
    const std::lock_guard mine(phone_.turn);
    return hands_.install(step, what, phone);
  }
  Result<std::string> hand_over(const Step& step, const act::HandOver& what,
                                Phone& phone) override {
    const std::lock_guard mine(phone_.turn);
    return hands_.hand_over(step, what, phone);
  }
  Status bring(const Step& step, PhoneMode mode, Phone& phone) override {
    const std::lock_guard mine(phone_.turn);
    return hands_.bring(step, mode, phone);
  }

 private:
  WirePhoneServed& phone_;
  SimulatedHands hands_;
};

}  // namespace wexlo::test
