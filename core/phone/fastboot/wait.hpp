#pragma once
/// Waiting for a socket, with an end to it: an operation is done, its time is up, or a stop was
/// asked for.

#include <fmt/format.h>
#include <poll.h>

#include <algorithm>
#include <asio.hpp>

#include "phone/fastboot/link.hpp"

namespace wexlo {

[[nodiscard]] inline Error cannot_listen(const asio::error_code& why, const PhoneAddress& address) {
  return {.code = ErrorCode::Io,
          .message = "cannot listen there",
          .file = address_text(address),
          .found = why.message(),
          .hint = "Is the port taken, or the name not this machine's? Try another port."};
}

class Waiter {
 public:
  Waiter(std::string where, Context context)
      : where_(std::move(where)), context_(std::move(context)) {}

  [[nodiscard]] asio::io_context& io() { return io_; }
  [[nodiscard]] const std::string& where() const { return where_; }

  /// Where a host is; a name may stand for several places. Errors: LinkLost.
  template <class Protocol>
  [[nodiscard]] Result<typename Protocol::resolver::results_type> places_of(
      const PhoneAddress& address) {
    asio::error_code failed;
    typename Protocol::resolver resolver(io_);
    auto found = resolver.resolve(address.host, std::to_string(address.port), failed);
    if (failed) return fail(lost(failed.message()));
    return found;
  }

  /// Starts an operation with a handler to be called, and waits. `cancel` ends it early.
  /// @return whether it was done in time. Errors: LinkLost, Interrupted.
  template <class Start, class Cancel>
  [[nodiscard]] Result<bool> wait(Start start, Cancel cancel, milliseconds limit) {
    constexpr milliseconds kSlice{20};
    bool done = false;
    asio::error_code result;
    start([&](const asio::error_code& code) {
      done = true;
      result = code;
    });
    const auto deadline = std::chrono::steady_clock::now() + limit;
    Status going = check_stop(context_);
    while (!done && going) {
      const auto left =
          std::chrono::duration_cast<milliseconds>(deadline - std::chrono::steady_clock::now());
      if (left.count() <= 0) break;
      io_.restart();
      io_.run_for(std::min(left, kSlice));
      going = check_stop(context_);
    }
    const bool in_time = done;
    if (!done) {
      // The handler refers to what is about to go: it has to have been called by then.
      cancel();
      io_.restart();
      io_.run();
    }
    if (!going) return fail(going.error());
    if (!in_time) return false;
    if (result) return fail(lost(result.message()));
    return true;
  }

  /// Waits until a socket has something to read: for packets, of which thousands come in a second.
  /// @return whether it was in time. Errors: Interrupted.
  [[nodiscard]] Result<bool> readable(int socket, milliseconds limit) const {
    constexpr int kSlice = 20;
    const auto until = std::chrono::steady_clock::now() + limit;
    for (;;) {
      const auto left =
          std::chrono::ceil<milliseconds>(until - std::chrono::steady_clock::now()).count();
      pollfd one{.fd = socket, .events = POLLIN, .revents = 0};
      const int came = ::poll(&one, 1, static_cast<int>(std::clamp<long>(left, 0, kSlice)));
      if (came > 0) return true;
      WEXLO_CHECK(check_stop(context_));
      if (left <= 0) return false;
    }
  }

  [[nodiscard]] Error lost(const std::string& why) const {
    return {.code = ErrorCode::LinkLost,
            .message = fmt::format("the link to the phone was lost: {}", why),
            .file = where_,
            .hint = "Is the phone at its bootloader, and is the address right?"};
  }

 private:
  asio::io_context io_;
  std::string where_;
  Context context_;  // its own: a link outlives the call that made it
};

}  // namespace wexlo
