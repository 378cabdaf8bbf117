/// A signer that is another program: keys on a token never come near this process.

#include <fcntl.h>
#include <fmt/format.h>
#include <poll.h>
#include <signal.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <chrono>
#include <optional>
#include <thread>
#include <utility>

#include "verified/key.hpp"
#include "verified/vbmeta.hpp"

extern char** environ;

namespace wexlo::verified {
namespace {

constexpr auto kPatience = std::chrono::minutes(1);  ///< a token may ask its owner for a touch
constexpr std::size_t kMaxSignature = 4096;

/// Closes what it holds.
class Fd {
 public:
  explicit Fd(int fd = -1) : fd_(fd) {}
  Fd(Fd&& other) noexcept : fd_(std::exchange(other.fd_, -1)) {}
  Fd& operator=(Fd&&) = delete;
  ~Fd() { close(); }
  void close() {
    if (fd_ >= 0) ::close(std::exchange(fd_, -1));
  }
  [[nodiscard]] int get() const { return fd_; }

 private:
  int fd_;
};

struct Pipe {
  Fd read, write;
};
Result<Pipe> make_pipe() {
  int ends[2];
  if (::pipe2(ends, O_CLOEXEC) != 0) return fail(io_error(errno, "cannot make a pipe", ""));
  return Pipe{Fd(ends[0]), Fd(ends[1])};
}

/// A running program; ended when nobody waits for it any more.
class Child {
 public:
  explicit Child(pid_t pid) : pid_(pid) {}
  Child(const Child&) = delete;
  Child& operator=(const Child&) = delete;
  ~Child() {
    if (pid_ <= 0) return;
    ::kill(pid_, SIGKILL);
    (void)wait();
  }
  int wait() {
    int status = 0;
    while (::waitpid(pid_, &status, 0) < 0 && errno == EINTR) {
    }
    pid_ = 0;
    return status;
  }
  /// nullopt: it still runs.
  std::optional<int> ended() {
    int status = 0;
    if (::waitpid(pid_, &status, WNOHANG) != pid_) return std::nullopt;
    pid_ = 0;
    return status;
  }

 private:
  pid_t pid_;
};

Result<pid_t> start(const std::filesystem::path& program, const std::string& argument, int in,
                    int out) {
  posix_spawn_file_actions_t actions;
  posix_spawnattr_t attributes;
  posix_spawn_file_actions_init(&actions);
  posix_spawnattr_init(&attributes);
  posix_spawn_file_actions_adddup2(&actions, in, STDIN_FILENO);
  posix_spawn_file_actions_adddup2(&actions, out, STDOUT_FILENO);
  // This program holds signals back for a thread of its own; another one must not inherit that.
  sigset_t none;
  sigemptyset(&none);
  posix_spawnattr_setsigmask(&attributes, &none);
  sigset_t usual;
  sigemptyset(&usual);
  sigaddset(&usual, SIGPIPE);
  sigaddset(&usual, SIGXFSZ);
  posix_spawnattr_setsigdefault(&attributes, &usual);
  posix_spawnattr_setflags(&attributes, POSIX_SPAWN_SETSIGMASK | POSIX_SPAWN_SETSIGDEF);
  std::string name = program.string(), word = argument;
  char* arguments[] = {name.data(), word.data(), nullptr};
  pid_t pid = 0;
  const int error = ::posix_spawnp(&pid, name.c_str(), &actions, &attributes, arguments, environ);
  posix_spawn_file_actions_destroy(&actions);
  posix_spawnattr_destroy(&attributes);
  if (error != 0) return fail(io_error(error, "cannot start the signer", name));
  return pid;
}

class ProgramSigner final : public Signer {
 public:
  ProgramSigner(std::filesystem::path program, Bytes key, const Context& context)
      : Signer(std::move(key)), program_(std::move(program)), stop_(context.stop) {}

 private:
  Result<Bytes> make(DigestKind kind, View digest) const override {
    const auto algorithm = algorithm_for(kind, bits());
    WEXLO_TRY(Pipe in, make_pipe());
    WEXLO_TRY(Pipe out, make_pipe());
    WEXLO_TRY(const pid_t pid, start(program_, algorithm_name(algorithm ? algorithm->id : 0),
                                     in.read.get(), out.write.get()));
    Child child(pid);
    in.read.close();
    out.write.close();
    // A digest is far smaller than a pipe's room: this never waits.
    const auto sent = ::write(in.write.get(), digest.data(), digest.size());
    in.write.close();
    const auto end = std::chrono::steady_clock::now() + kPatience;
    WEXLO_TRY(Bytes signature, answer(out.read.get(), end));
    // It may have closed its output and still run.
    std::optional<int> ended;
    while (!(ended = child.ended())) {
      WEXLO_CHECK(look_up(end));
      std::this_thread::sleep_for(std::chrono::milliseconds(5));
    }
    const int status = *ended;
    if (sent == static_cast<ssize_t>(digest.size()) && WIFEXITED(status) &&
        WEXITSTATUS(status) == 0)
      return signature;
    if (WIFSIGNALED(status)) WEXLO_CHECK(ended_together(WTERMSIG(status)));
    return fail(failed(WIFEXITED(status) ? fmt::format("exit code {}", WEXITSTATUS(status))
                                         : "ended by a signal"));
  }

  Error failed(std::string found) const {
    return {.code = ErrorCode::Io,
            .message = "the signer failed",
            .file = program_.string(),
            .expected = "exit code 0 and the signature on standard output",
            .found = std::move(found),
            .hint =
                "What it says of it stands above; try it by hand with a digest on standard "
                "input."};
  }

  using Moment = std::chrono::steady_clock::time_point;

  /// Whether to go on waiting.
  Status look_up(Moment end) const {
    WEXLO_CHECK(check_stop({.stop = stop_}));
    if (std::chrono::steady_clock::now() > end) return fail(failed("no answer for a minute"));
    return {};
  }

  /// A key at the terminal ends the signer, too, and often before this program's own thread has
  /// heard of it: then it is no failure of the signer.
  Status ended_together(int signal) const {
    if (signal != SIGINT && signal != SIGTERM) return {};
    for (int i = 0; i < 40 && !stop_.stop_requested(); ++i)
      std::this_thread::sleep_for(std::chrono::milliseconds(5));
    return check_stop({.stop = stop_});
  }

  Result<Bytes> answer(int fd, Moment end) const {
    Bytes out;
    while (out.size() <= kMaxSignature) {
      WEXLO_CHECK(look_up(end));
      pollfd ready{fd, POLLIN, 0};
      if (::poll(&ready, 1, 100) <= 0) continue;
      std::byte piece[1024];
      const auto got = ::read(fd, piece, sizeof piece);
      if (got < 0 && errno == EINTR) continue;
      if (got < 0) return fail(io_error(errno, "cannot read from the signer", program_.string()));
      if (got == 0) return out;
      append(out, View(piece, static_cast<std::size_t>(got)));
    }
    return fail(failed(fmt::format("more than {} bytes", kMaxSignature)));
  }

  std::filesystem::path program_;
  std::stop_token stop_;
};

}  // namespace

SignerPtr program_signer(std::filesystem::path program, Bytes public_key, const Context& context) {
  return std::make_shared<ProgramSigner>(std::move(program), std::move(public_key), context);
}

}  // namespace wexlo::verified
