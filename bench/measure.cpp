#include "measure.hpp"

#include <fcntl.h>
#include <sys/resource.h>

#include <chrono>
#include <fstream>

namespace wexlo::bench {
namespace {

/// Bytes that a process that has ended, and is not yet waited for, asked the system to read.
std::uint64_t bytes_read(pid_t child) {
  std::ifstream io("/proc/" + std::to_string(child) + "/io");
  for (std::string key; io >> key;)
    if (std::uint64_t value = 0; key == "rchar:" && io >> value) return value;
  return 0;
}

Cost run_once(const std::vector<std::string>& command) {
  const auto begin = std::chrono::steady_clock::now();
  const pid_t child = ::fork();
  if (child == 0) {
    const int null = ::open("/dev/null", O_WRONLY);
    ::dup2(null, 1);
    std::vector<char*> words;
    for (const std::string& word : command)
      words.push_back(const_cast<char*>(word.c_str()));
    words.push_back(nullptr);
    ::execvp(words[0], words.data());
    ::_exit(127);
  }
  siginfo_t ended{};
  ::waitid(P_PID, static_cast<id_t>(child), &ended, WEXITED | WNOWAIT);
  const std::chrono::duration<double> took = std::chrono::steady_clock::now() - begin;
  Cost cost{.seconds = took.count(), .read_bytes = bytes_read(child)};
  rusage usage{};
  int status = 0;
  ::wait4(child, &status, 0, &usage);
  if (status != 0) {
    fmt::print(stderr, "failed: {}\n", command[0]);
    std::exit(1);
  }
  cost.peak_bytes = static_cast<std::uint64_t>(usage.ru_maxrss) * 1024;
  return cost;
}

}  // namespace

Cost best_of(int runs, const std::vector<std::string>& command) {
  Cost best;
  for (int i = 0; i < runs; ++i) {
    const Cost cost = run_once(command);
    if (cost.seconds < best.seconds) best = cost;
  }
  return best;
}

void show(std::string_view what, const Cost& cost) {
  fmt::print("{:<58} {:8.3f} s  {:8.2f} MiB read  {:6.1f} MiB peak\n", what, cost.seconds,
             static_cast<double>(cost.read_bytes) / 1048576,
             static_cast<double>(cost.peak_bytes) / 1048576);
}

Cost shell(int runs, const std::filesystem::path& folder, const std::string& line) {
  return best_of(runs, {"bash", "-ec", "cd " + folder.string() + "; " + line});
}

void compare(std::string_view what, const Cost& ours, std::string_view tools, const Cost& theirs,
             double most) {
  show(what, ours);
  show(tools, theirs);
  fmt::print("ratio: {:.2f} (at most {:.2f} is wanted)\n", ours.seconds / theirs.seconds, most);
}

void compare_peak(std::string_view what, const Cost& ours, std::uint64_t most) {
  fmt::print("peak memory, {}: {} MiB (at most {} is wanted)\n", what, ours.peak_bytes / kMiB,
             most / kMiB);
}

}  // namespace wexlo::bench
