#pragma once
/// Puts a simulated phone behind wires on this machine: a thread for each place where it listens.

#include <stop_token>
#include <thread>

#include "phone/fastboot/listen.hpp"
#include "phone/simulated/bootloader.hpp"

namespace wexlo {

class PhoneServer {
 public:
  struct Habits {
    /// Somebody holds the keys: a host that calls while the phone runs something else finds it at
    /// its bootloader. false: it finds no phone.
    bool keys = false;
    std::function<void()> told{};  ///< after each command that was done; may be empty
  };
  /// @param phone  has to outlive it; nobody else touches it without `turn`
  PhoneServer(SimulatedPhone& phone, Habits habits) : phone_(phone), habits_(std::move(habits)) {}
  PhoneServer(const PhoneServer&) = delete;
  PhoneServer& operator=(const PhoneServer&) = delete;
  ~PhoneServer();  ///< hangs up, wherever a host is

  /// One host is answered at a time, and hands wait for their turn.
  std::mutex turn;
  /// Listens at one more place. @return where: with the port that was free, if 0 was asked for
  /// Errors: those of listen_at.
  [[nodiscard]] Result<PhoneAddress> listen(PhoneAddress address);

 private:
  void attend(Link& host);
  SimulatedPhone& phone_;
  Habits habits_;
  std::stop_source stop_;
  std::vector<std::unique_ptr<Listener>> listeners_;
  std::vector<std::thread> threads_;
};

}  // namespace wexlo
