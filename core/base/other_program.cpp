#include "base/other_program.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <linux/close_range.h>
#include <linux/filter.h>
#include <seccomp.h>
#include <signal.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <cstring>
#include <thread>
#include <utility>

#include "base/output.hpp"
#include "base/pool.hpp"

namespace wexlo {
namespace {

using Clock = std::chrono::steady_clock;

constexpr rlim_t kMostWritten = 1u << 30;  ///< bytes of a file that a closed program may write
constexpr auto kLook = std::chrono::milliseconds(5);
/// A file that was just written cannot be started while another thread's child still has it open.
constexpr int kBusyTries = 100;

struct Descriptor {
  int number = -1;
  Descriptor() = default;
  Descriptor(const Descriptor&) = delete;
  Descriptor& operator=(const Descriptor&) = delete;
  ~Descriptor() { close(); }
  void close() {
    if (number >= 0) ::close(std::exchange(number, -1));
  }
};

/// What a kernel is to refuse: any socket, also by the ways round the call for it; and leaving the
/// group that is ended with the program.
struct Filter {
  std::vector<sock_filter> rules;

  static Result<Filter> closed() {
    Filter out;
    scmp_filter_ctx context = ::seccomp_init(SCMP_ACT_ALLOW);
    int error = context == nullptr ? -ENOMEM : 0;
    // A program of the machine's other width asks by other numbers.
#if defined(__x86_64__)
    for (const auto arch : {SCMP_ARCH_X86, SCMP_ARCH_X32})
      if (error == 0) error = ::seccomp_arch_add(context, static_cast<std::uint32_t>(arch));
#elif defined(__aarch64__)
    if (error == 0) error = ::seccomp_arch_add(context, SCMP_ARCH_ARM);
#endif
    for (const int call :
         {SCMP_SYS(socket), SCMP_SYS(io_uring_setup), SCMP_SYS(setsid), SCMP_SYS(setpgid)})
      if (error == 0) error = ::seccomp_rule_add(context, SCMP_ACT_ERRNO(EACCES), call, 0);
    if (error == 0) error = out.take(context);
    if (context != nullptr) ::seccomp_release(context);
    if (error != 0)
      return fail(
          io_error(-error, "cannot make the rules that keep a program from the network", ""));
    return out;
  }

 private:
  int take(scmp_filter_ctx context) {
    Descriptor file;
    file.number = ::memfd_create("rules", MFD_CLOEXEC);
    if (file.number < 0) return -errno;
    if (const int error = ::seccomp_export_bpf(context, file.number); error != 0) return error;
    const off_t size = ::lseek(file.number, 0, SEEK_END);
    rules.resize(static_cast<std::size_t>(size) / sizeof(sock_filter));
    return ::pread(file.number, rules.data(), static_cast<std::size_t>(size), 0) == size ? 0 : -EIO;
  }
};

/// All that the child needs, made before it is: between its birth and its program it may only make
/// system calls, for other threads may have held any lock.
struct Child {
  std::vector<char*> words, environment;
  std::vector<std::string> texts;  ///< of its environment
  std::string program, folder, said;
  sock_fprog filter{};
  rlim_t seconds = 0;
  bool closed = false;
  int failure = -1;  ///< where it says why it could not start
};

enum class Step : int { Folder, Output, Rules, Start };

[[noreturn]] void give_up(const Child& child, Step step) {
  const std::array<int, 2> told{static_cast<int>(step), errno};
  (void)!::write(child.failure, told.data(), sizeof told);
  ::_exit(127);
}

void limit(int resource, rlim_t most) {
  rlimit now{};
  if (::getrlimit(static_cast<__rlimit_resource>(resource), &now) != 0) return;
  now.rlim_cur = std::min(now.rlim_max, most);
  (void)::setrlimit(static_cast<__rlimit_resource>(resource), &now);
}

/// Runs in the child.
[[noreturn]] void become(const Child& child) {
  if (child.closed) ::setpgid(0, 0);
  if (!child.folder.empty() && ::chdir(child.folder.c_str()) != 0) give_up(child, Step::Folder);
  const int in = ::open("/dev/null", O_RDONLY);
  if (in < 0 || ::dup2(in, STDIN_FILENO) < 0) give_up(child, Step::Output);
  if (!child.said.empty()) {
    const int out = ::open(child.said.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_APPEND, 0600);
    if (out < 0 || ::dup2(out, STDERR_FILENO) < 0) give_up(child, Step::Output);
  }
  // Standard output is this program's own.
  if (::dup2(STDERR_FILENO, STDOUT_FILENO) < 0) give_up(child, Step::Output);
  ::syscall(SYS_close_range, 3U, ~0U, CLOSE_RANGE_CLOEXEC);
  // This program holds signals back for a thread of its own; another one must not inherit that.
  for (const int one : {SIGPIPE, SIGXFSZ})
    ::signal(one, SIG_DFL);
  sigset_t none;
  sigemptyset(&none);
  ::sigprocmask(SIG_SETMASK, &none, nullptr);
  if (child.closed) {
    limit(RLIMIT_CPU, child.seconds);
    limit(RLIMIT_FSIZE, kMostWritten);
    limit(RLIMIT_CORE, 0);
    if (::prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) != 0 ||
        ::prctl(PR_SET_SECCOMP, SECCOMP_MODE_FILTER, &child.filter) != 0)
      give_up(child, Step::Rules);
  }
  for (int left = kBusyTries;; --left) {
    // Not by a function that would give what is no program to a shell.
    ::execve(child.program.c_str(), child.words.data(), child.environment.data());
    if (errno != ETXTBSY || left == 0) give_up(child, Step::Start);
    const timespec pause{0, 10'000'000};
    ::nanosleep(&pause, nullptr);
  }
}

Error not_started(const std::array<int, 2>& told, const ProgramCall& call) {
  if (static_cast<Step>(told[0]) == Step::Rules)
    return {.code = ErrorCode::Unsupported,
            .message = "this system cannot keep a program from the network",
            .file = call.words[0],
            .expected = "a kernel with system call filters",
            .found = std::strerror(told[1]),
            .hint = "Run it on a machine that can: it is not started without."};
  const bool output = static_cast<Step>(told[0]) == Step::Output;
  return io_error(
      told[1],
      output ? "cannot make a place for what a program prints" : "cannot start the program",
      call.words[0]);
}

/// A program that runs; ended when nobody waits for it any more. A closed one has a group of its
/// own that ends with it; an open one may have to ask its user something at the terminal, which a
/// group of its own would keep it from.
class Running {
 public:
  Running(pid_t pid, bool group) : pid_(pid), group_(group) {}
  Running(const Running&) = delete;
  Running& operator=(const Running&) = delete;
  ~Running() {
    // Nobody else gets its number, nor its group's, before it was waited for.
    if (group_) ::kill(-pid_, SIGKILL);
    if (!ended_) ::kill(pid_, SIGKILL);
    int status = 0;
    while (::waitpid(pid_, &status, 0) < 0 && errno == EINTR) {
    }
  }
  /// nullopt: it still runs. It stays to be waited for, so that its number stays its own.
  std::optional<ProgramEnd> end() {
    siginfo_t info{};
    if (::waitid(P_PID, static_cast<id_t>(pid_), &info, WEXITED | WNOHANG | WNOWAIT) != 0 ||
        info.si_pid != pid_)
      return std::nullopt;
    ended_ = true;
    if (info.si_code == CLD_EXITED) return ProgramEnd{.exit_code = info.si_status};
    return ProgramEnd{.exit_code = std::nullopt, .signal = info.si_status};
  }

 private:
  pid_t pid_;
  bool group_, ended_ = false;
};

Result<ProgramEnd> wait_for(Running& running, const ProgramCall& call,
                            const std::stop_token& stop) {
  const auto last = Clock::now() + call.patience;
  std::optional<ProgramEnd> end;
  while (!(end = running.end())) {
    WEXLO_CHECK(check_stop({.stop = stop}));
    if (Clock::now() > last) return ProgramEnd{.late = true};
    std::this_thread::sleep_for(kLook);
  }
  // The bound on its processor time is the same bound.
  if (end->signal == SIGXCPU) return ProgramEnd{.late = true};
  // A key at the terminal may reach it before this program's own thread has heard of it: then it
  // did not fail.
  for (int i = 0; i < 40 && (end->signal == SIGINT || end->signal == SIGTERM); ++i) {
    WEXLO_CHECK(check_stop({.stop = stop}));
    std::this_thread::sleep_for(kLook);
  }
  return *end;
}

/// A name without a `/` is looked for where a shell would look.
std::string program_path(const std::string& word) {
  constexpr std::string_view kPath = "PATH=";
  std::string_view rest;
  for (char** one = environ; word.find('/') == word.npos && *one != nullptr; ++one)
    if (std::string_view(*one).starts_with(kPath))
      rest = std::string_view(*one).substr(kPath.size());
  while (!rest.empty()) {
    const std::size_t end = std::min(rest.find(':'), rest.size());
    std::string file = (std::filesystem::path(rest.substr(0, end)) / word).string();
    if (::access(file.c_str(), X_OK) == 0 && std::filesystem::is_regular_file(file)) return file;
    rest.remove_prefix(std::min(end + 1, rest.size()));
  }
  return word;
}

Child child_of(const ProgramCall& call) {
  Child out{.program = program_path(call.words[0])};
  for (const std::string& word : call.words)
    out.words.push_back(const_cast<char*>(word.c_str()));
  out.words.push_back(nullptr);
  out.folder = call.folder.string();
  out.said = call.said.string();
  out.seconds = static_cast<rlim_t>(call.patience.count());
  out.closed = call.reach == Reach::Closed;
  if (out.closed)
    out.texts = {"PATH=/usr/local/bin:/usr/bin:/bin", "LC_ALL=C.UTF-8", "TZ=UTC",
                 "HOME=" + out.folder, "TMPDIR=" + out.folder};
  for (std::string& text : out.texts)
    out.environment.push_back(text.data());
  for (char** one = environ; !out.closed && *one != nullptr; ++one)
    out.environment.push_back(*one);
  out.environment.push_back(nullptr);
  return out;
}

}  // namespace

Result<PrivateFolder> PrivateFolder::create(std::string_view what) {
  std::error_code error;
  std::filesystem::path base = std::filesystem::temp_directory_path(error);
  if (error) base = "/tmp";
  std::string name = (base / fmt::format("wexlo-{}-XXXXXX", what)).string();
  if (::mkdtemp(name.data()) == nullptr)
    return fail(io_error(errno, "cannot make a folder for a program", base.string()));
  return PrivateFolder(name);
}

PrivateFolder::PrivateFolder(PrivateFolder&& other) noexcept
    : path_(std::exchange(other.path_, {})) {}

PrivateFolder::~PrivateFolder() {
  if (!path_.empty()) remove_tree(path_);
}

std::string ProgramEnd::text() const {
  if (late) return "it took longer than it had";
  if (exit_code) return fmt::format("exit code {}", *exit_code);
  return fmt::format("ended by a signal ({})", ::strsignal(signal));
}

Result<ProgramEnd> run_program(const ProgramCall& call, const std::stop_token& stop) {
  WEXLO_CHECK(check_stop({.stop = stop}));
  Child child = child_of(call);
  Filter filter;
  if (child.closed) {
    auto made = Filter::closed();
    if (!made) return fail(in_file(std::move(made).error(), call.words[0]));
    filter = std::move(*made);
    child.filter = {static_cast<unsigned short>(filter.rules.size()), filter.rules.data()};
  }
  Descriptor read_end, write_end;
  std::array<int, 2> ends{};
  if (::pipe2(ends.data(), O_CLOEXEC) != 0)
    return fail(io_error(errno, "cannot start the program", call.words[0]));
  read_end.number = ends[0];
  write_end.number = child.failure = ends[1];
  const pid_t pid = ::fork();
  if (pid < 0) return fail(io_error(errno, "cannot start the program", call.words[0]));
  if (pid == 0) become(child);
  if (child.closed) ::setpgid(pid, pid);
  Running running(pid, child.closed);
  write_end.close();
  std::array<int, 2> told{};
  ssize_t got = 0;
  while ((got = ::read(read_end.number, told.data(), sizeof told)) < 0 && errno == EINTR) {
  }
  if (got == sizeof told) return fail(not_started(told, call));
  return wait_for(running, call, stop);
}

}  // namespace wexlo
