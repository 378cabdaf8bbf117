#pragma once
/// A bootloader's end of the wire, on this machine: it tells its variables, in an order of its own,
/// and misbehaves as it is told.

#include <atomic>
#include <chrono>
#include <map>
#include <string>
#include <thread>
#include <vector>

#include "phone/address.hpp"

namespace wexlo::test {

struct WireHabits {
  std::map<std::string, std::string> variables;
  bool tells_all = true;                ///< knows getvar:all
  std::string word_for_all{};           ///< its answer to getvar:all, if it has one of its own
  unsigned deaf_calls = 0;              ///< TCP: hosts whose greeting it does not answer
  std::vector<std::string> replies{};   ///< to whatever is asked, instead of all that
  std::string greeting = "FB01";        ///< TCP; empty: hangs up at once
  std::string raw{};                    ///< TCP: bytes in the place of the first reply
  std::uint16_t packet = 2048;          ///< UDP: its largest
  std::uint16_t first_number = 0xfffd;  ///< UDP: wraps soon
  unsigned loses_every = 0;             ///< UDP: packets, of those that come and those that go
  std::chrono::milliseconds thinks{
      0};                ///< UDP: over its first command, and hears nothing meanwhile
  bool repeats = false;  ///< UDP: the answer before comes once more before each
};

class WirePhone {
 public:
  WirePhone(Wire wire, WireHabits habits);
  ~WirePhone();
  WirePhone(const WirePhone&) = delete;
  WirePhone& operator=(const WirePhone&) = delete;
  [[nodiscard]] PhoneAddress address() const;
  [[nodiscard]] unsigned packets() const { return packets_; }  ///< UDP: that came

 private:
  void serve_tcp();
  void serve_udp();
  [[nodiscard]] std::vector<std::string> answers(const std::string& command) const;

  Wire wire_;
  WireHabits habits_;
  int socket_ = -1;
  std::uint16_t port_ = 0;
  std::atomic<unsigned> packets_ = 0;
  std::thread thread_;
};

}  // namespace wexlo::test
