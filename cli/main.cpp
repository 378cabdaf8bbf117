/// The program's start: streams, signals, progress.

#include <signal.h>
#include <unistd.h>

#include <atomic>
#include <iostream>
#include <stop_token>
#include <thread>

#include "program.hpp"
#include "progress.hpp"
#include "reply.hpp"

namespace {

using namespace wexlo;

/// Waits for Ctrl-C and the like in a thread of its own, and asks the work to stop; what was being
/// written is then removed on the way out. A second signal ends the program at once.
class SignalWatch {
 public:
  SignalWatch() {
    sigemptyset(&signals_);
    for (const int number : {SIGINT, SIGTERM, SIGHUP})
      sigaddset(&signals_, number);
    // Blocked before any other thread exists, so that all of them inherit it.
    pthread_sigmask(SIG_BLOCK, &signals_, nullptr);
    signal(SIGPIPE, SIG_IGN);
    thread_ = std::thread([this] { wait_for_signals(); });
  }
  SignalWatch(const SignalWatch&) = delete;
  SignalWatch& operator=(const SignalWatch&) = delete;
  ~SignalWatch() {
    ended_ = true;
    thread_.join();
  }
  [[nodiscard]] std::stop_token token() const { return stop_.get_token(); }

 private:
  void wait_for_signals() {
    while (!ended_) {
      const timespec wait{0, 50'000'000};
      if (sigtimedwait(&signals_, nullptr, &wait) < 0) continue;
      if (stop_.stop_requested()) _exit(cli::ExitInterrupted);
      stop_.request_stop();
    }
  }

  std::stop_source stop_;
  sigset_t signals_{};
  std::atomic<bool> ended_ = false;
  std::thread thread_;
};

}  // namespace

int main(int argc, char** argv) {
  const SignalWatch watch;
  cli::Progress progress(std::cerr);
  cli::Session session{std::cout, std::cerr, {}, {}, {}};
  session.context.stop = watch.token();
  if (isatty(STDERR_FILENO) != 0)
    session.context.progress = [&](std::uint64_t done, std::uint64_t total) {
      progress.show(done, total);
    };
  return cli::run_program({argv + 1, argv + argc}, session);
}
