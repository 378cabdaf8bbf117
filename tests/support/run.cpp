#include "support/run.hpp"

#include <fcntl.h>
#include <sys/wait.h>
#include <unistd.h>

#include "support/bytes.hpp"

namespace wexlo::test {

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
  int status = 0;
  ::waitpid(child, &status, 0);
  return {WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status), read(out), read(err)};
}

Ran shell(const std::string& line, const std::string& in_folder) {
  return run({"bash", "-o", "pipefail", "-c", line}, in_folder);
}

}  // namespace wexlo::test
