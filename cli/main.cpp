/// The program's start: streams, signals, progress.

#include <fcntl.h>
#include <malloc.h>
#include <signal.h>
#include <unistd.h>

#include <atomic>
#include <chrono>
#include <cstdlib>
#include <iostream>
#include <new>
#include <stop_token>
#include <thread>

#include "base/memory.hpp"
#include "program.hpp"
#include "progress.hpp"
#include "reply.hpp"

// The sanitizers have their own; under them memory does not run out in tests.
#ifndef __SANITIZE_ADDRESS__
/// As the library's, but what fails says how much was asked for.
void* operator new(std::size_t size) {
  if (void* const made = std::malloc(size == 0 ? 1 : size)) return made;
  throw wexlo::OutOfMemory(size);
}
void operator delete(void* at) noexcept {
  std::free(at);  // NOLINT(clang-analyzer-*): what is deleted was made above
}
void operator delete(void* at, std::size_t) noexcept {
  std::free(at);  // NOLINT(clang-analyzer-*)
}
#endif

namespace {

using namespace wexlo;

/// Waits for Ctrl-C and the like in a thread of its own, and asks the work to stop; what was being
/// written is then removed on the way out. One that comes later still ends the program at once.
class SignalWatch {
 public:
  SignalWatch() {
    sigemptyset(&signals_);
    sigemptyset(&ignored_);
    for (const int number : {SIGINT, SIGTERM, SIGHUP}) {
      sigaddset(&signals_, number);
      // nohup has it ignore a hang-up: the terminal may be closed, and the work goes on.
      struct sigaction before {};
      if (sigaction(number, nullptr, &before) == 0 && before.sa_handler == SIG_IGN)
        sigaddset(&ignored_, number);
    }
    // Blocked before any other thread exists, so that all of them inherit it.
    pthread_sigmask(SIG_BLOCK, &signals_, nullptr);
    signal(SIGPIPE, SIG_IGN);
    // A file that grows above the shell's limit is an error of writing, with a reason.
    signal(SIGXFSZ, SIG_IGN);
    try {
      thread_ = std::thread([this] { wait_for_signals(); });
    } catch (const std::system_error&) {
      // No thread to be had: signals end the program as they usually do.
      pthread_sigmask(SIG_UNBLOCK, &signals_, nullptr);
    }
  }
  SignalWatch(const SignalWatch&) = delete;
  SignalWatch& operator=(const SignalWatch&) = delete;
  ~SignalWatch() {
    if (!thread_.joinable()) return;
    ended_ = true;
    pthread_kill(thread_.native_handle(), SIGHUP);  // wakes it: nobody waits at a command's end
    thread_.join();
  }
  [[nodiscard]] std::stop_token token() const { return stop_.get_token(); }

 private:
  void wait_for_signals() {
    for (;;) {
      const int number = sigwaitinfo(&signals_, nullptr);
      if (ended_) return;
      if (number < 0 || sigismember(&ignored_, number) != 0) continue;
      // Programs that end others send it to the process and to its group: that is one signal.
      constexpr auto kSame = std::chrono::seconds(1);
      const auto now = std::chrono::steady_clock::now();
      if (!stop_.stop_requested())
        first_ = now;
      else if (now - first_ > kSame)
        _exit(cli::ExitInterrupted);
      stop_.request_stop();
    }
  }

  std::stop_source stop_;
  std::chrono::steady_clock::time_point first_;
  sigset_t signals_{}, ignored_{};
  std::atomic<bool> ended_ = false;
  std::thread thread_;
};

/// A stream that was closed before the start would give its number to the first file that is
/// opened, and what is printed would go there. Opened for reading, writing to it fails as it
/// should.
void keep_numbers_of_streams() {
  for (const int number : {STDIN_FILENO, STDOUT_FILENO, STDERR_FILENO})
    if (fcntl(number, F_GETFD) < 0 && open("/dev/null", O_RDONLY) < 0) _exit(cli::ExitIo);
}

/// Large blocks go back to the system when they are freed. The library's own limit rises with the
/// blocks that it sees: then each thread's heap keeps some, and a ramdisk of 128 MiB costs as much
/// again.
void give_back_large_blocks() {
  constexpr int kLarge = 8 << 20;
  mallopt(M_MMAP_THRESHOLD, kLarge);
}

}  // namespace

int main(int argc, char** argv) {
  keep_numbers_of_streams();
  give_back_large_blocks();
  const SignalWatch watch;
  cli::Progress progress(std::cerr);
  cli::Session session{std::cout, std::cerr, {}, {}, {}, [&] { progress.finish(); }};
  session.context.stop = watch.token();
  if (isatty(STDERR_FILENO) != 0) {
    session.context.progress = [&](std::uint64_t done, std::uint64_t total) {
      progress.show(done, total);
    };
    session.context.steps = [&](std::uint64_t done, std::uint64_t total) {
      progress.count(done, total);
    };
  }
  return cli::run_program({argv + 1, argv + argc}, session);
}
