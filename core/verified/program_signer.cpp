/// A signer that is another program: keys on a token never come near this process.

#include <fcntl.h>
#include <fmt/format.h>
#include <signal.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <chrono>
#include <cstdlib>
#include <optional>
#include <thread>
#include <utility>

#include "base/digest.hpp"
#include "base/output.hpp"
#include "base/source.hpp"
#include "text/toml_write.hpp"
#include "verified/key.hpp"
#include "verified/vbmeta.hpp"

extern char** environ;

namespace wexlo::verified {
namespace {

constexpr auto kPatience = std::chrono::minutes(1);  ///< a token may ask its owner for a touch
constexpr std::size_t kMaxSignature = 4096;

/// A folder that only its owner may read; gone with all in it when nobody needs it.
class PrivateFolder {
 public:
  static Result<PrivateFolder> create() {
    std::error_code error;
    std::filesystem::path base = std::filesystem::temp_directory_path(error);
    if (error) base = "/tmp";
    std::string name = (base / "wexlo-signing-XXXXXX").string();
    if (::mkdtemp(name.data()) == nullptr)
      return fail(io_error(errno, "cannot make a folder for the signer", base.string()));
    return PrivateFolder(name);
  }
  PrivateFolder(PrivateFolder&& other) noexcept : path_(std::exchange(other.path_, {})) {}
  PrivateFolder& operator=(PrivateFolder&&) = delete;
  ~PrivateFolder() {
    if (!path_.empty()) remove_tree(path_);
  }
  [[nodiscard]] std::filesystem::path file(const char* name) const { return path_ / name; }

 private:
  explicit PrivateFolder(std::filesystem::path path) : path_(std::move(path)) {}
  std::filesystem::path path_;
};

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

Result<pid_t> start(const std::filesystem::path& program, const std::filesystem::path& request,
                    const std::filesystem::path& answer) {
  posix_spawn_file_actions_t actions;
  posix_spawnattr_t attributes;
  posix_spawn_file_actions_init(&actions);
  posix_spawnattr_init(&attributes);
  // What it says goes where messages go: standard output is this program's own.
  posix_spawn_file_actions_addopen(&actions, STDIN_FILENO, "/dev/null", O_RDONLY, 0);
  posix_spawn_file_actions_adddup2(&actions, STDERR_FILENO, STDOUT_FILENO);
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
  std::string name = program.string(), first = request.string(), second = answer.string();
  char* arguments[] = {name.data(), first.data(), second.data(), nullptr};
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
    WEXLO_TRY(const PrivateFolder folder, PrivateFolder::create());
    const auto request = folder.file("request.toml"), answer = folder.file("answer.bin");
    const std::string text = request_text(kind, digest);
    WEXLO_CHECK(write_new(request, as_view(text)));
    WEXLO_TRY(const pid_t pid, start(program_, request, answer));
    Child child(pid);
    WEXLO_CHECK(wait_for(child));
    const auto source = open_file(answer);
    if (!source) return fail(failed("no answer file"));
    if ((*source)->size() > kMaxSignature)
      return fail(failed(fmt::format("more than {} bytes", kMaxSignature)));
    return read_some(**source, 0, kMaxSignature);
  }

  [[nodiscard]] std::string request_text(DigestKind kind, View digest) const {
    const auto algorithm = algorithm_for(kind, bits());
    TomlWriter out;
    out.comment("What is to be signed. The bare signature goes into the file named second.");
    out.number("format", 1).text("algorithm", algorithm_name(algorithm ? algorithm->id : 0));
    out.text("digest", hex(digest)).text("key_sha256", sha256_hex(public_key()));
    return out.str();
  }

  Status wait_for(Child& child) const {
    const auto end = std::chrono::steady_clock::now() + kPatience;
    std::optional<int> ended;
    while (!(ended = child.ended())) {
      WEXLO_CHECK(look_up(end));
      std::this_thread::sleep_for(std::chrono::milliseconds(5));
    }
    const int status = *ended;
    if (WIFEXITED(status) && WEXITSTATUS(status) == 0) return {};
    if (WIFSIGNALED(status)) WEXLO_CHECK(ended_together(WTERMSIG(status)));
    return fail(failed(WIFEXITED(status) ? fmt::format("exit code {}", WEXITSTATUS(status))
                                         : "ended by a signal"));
  }

  Error failed(std::string found) const {
    return {.code = ErrorCode::Io,
            .message = "the signer failed",
            .file = program_.string(),
            .expected = "exit code 0 and the signature in the answer's file",
            .found = std::move(found),
            .hint =
                "What it says of it stands above; try it by hand: PROGRAM REQUEST.toml "
                "ANSWER.bin."};
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

  std::filesystem::path program_;
  std::stop_token stop_;
};

}  // namespace

SignerPtr program_signer(std::filesystem::path program, Bytes public_key, const Context& context) {
  return std::make_shared<ProgramSigner>(std::move(program), std::move(public_key), context);
}

}  // namespace wexlo::verified
