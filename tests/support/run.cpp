#include "support/run.hpp"

#include <fcntl.h>
#include <pty.h>
#include <sys/wait.h>
#include <unistd.h>

#include "support/bytes.hpp"

namespace wexlo::test {
namespace {

/// The child's part.
[[noreturn]] void become(const std::vector<std::string>& command, const std::string& in_folder,
                         const std::vector<std::string>& environment) {
  if (!in_folder.empty() && ::chdir(in_folder.c_str()) != 0) ::_exit(126);
  for (const std::string& value : environment)
    ::putenv(const_cast<char*>(value.c_str()));
  std::vector<char*> arguments;
  for (const std::string& word : command)
    arguments.push_back(const_cast<char*>(word.c_str()));
  arguments.push_back(nullptr);
  ::execvp(arguments[0], arguments.data());
  ::_exit(127);
}

int code_of(pid_t child) {
  int status = 0;
  ::waitpid(child, &status, 0);
  return WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
}

}  // namespace

Ran run(const std::vector<std::string>& command, const std::string& in_folder,
        const std::vector<std::string>& environment) {
  const TempDir streams;
  const std::string out = (streams / "out").string(), err = (streams / "err").string();
  const pid_t child = ::fork();
  if (child == 0) {
    const int in_fd = ::open("/dev/null", O_RDONLY);
    const int out_fd = ::open(out.c_str(), O_WRONLY | O_CREAT, 0600);
    const int err_fd = ::open(err.c_str(), O_WRONLY | O_CREAT, 0600);
    ::dup2(in_fd, 0);
    ::dup2(out_fd, 1);
    ::dup2(err_fd, 2);
    become(command, in_folder, environment);
  }
  return {code_of(child), read(out), read(err)};
}

Ran run_in_terminal(const std::vector<std::string>& command, const std::string& in_folder,
                    const std::vector<std::string>& environment, const Typist& types) {
  int terminal = -1;
  const pid_t child = ::forkpty(&terminal, nullptr, nullptr, nullptr);
  if (child == 0) become(command, in_folder, environment);
  Ran ran;
  char piece[4096];
  for (ssize_t got = 0; (got = ::read(terminal, piece, sizeof piece)) > 0;) {
    ran.out.append(piece, static_cast<std::size_t>(got));
    const std::string typed = types ? types(ran.out) : "";
    if (!typed.empty() && ::write(terminal, typed.data(), typed.size()) < 0) break;
  }
  ran.exit_code = code_of(child);
  ::close(terminal);
  return ran;
}

Ran shell(const std::string& line, const std::string& in_folder) {
  return run({"bash", "-o", "pipefail", "-c", line}, in_folder);
}

}  // namespace wexlo::test
