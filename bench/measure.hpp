#pragma once
/// Whole runs of a program, measured.

#include <fmt/format.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <string>
#include <vector>

namespace wexlo::bench {

inline constexpr std::size_t kMiB = 1u << 20;

struct Cost {
  double seconds = 1e9;
  std::uint64_t read_bytes = 0, peak_bytes = 0;
};

/// The fastest of several runs; a run that fails ends the benchmark.
[[nodiscard]] Cost best_of(int runs, const std::vector<std::string>& command);
void show(std::string_view what, const Cost& cost);
/// A shell line in a folder.
[[nodiscard]] Cost shell(int runs, const std::filesystem::path& folder, const std::string& line);
/// Shows both and the ratio of their times. @param most  what is wanted
void compare(std::string_view what, const Cost& ours, std::string_view tools, const Cost& theirs,
             double most);
/// Shows the peak memory of a run beside what is wanted, in bytes.
void compare_peak(std::string_view what, const Cost& ours, std::uint64_t most);

/// Work that takes memory is done in a process of its own: the system counts a child's peak from
/// what its parent held when it was started.
template <class Work>
void apart(Work work) {
  const pid_t child = ::fork();
  if (child == 0) ::_exit(work() ? 0 : 1);
  int status = 0;
  ::waitpid(child, &status, 0);
  if (status != 0) {
    fmt::print(stderr, "cannot make the inputs\n");
    std::exit(1);
  }
}

/// Payloads, sparse images and super.
void containers(const std::string& folder);

/// Boot images: taking apart and putting back, patching, inspecting.
void boot_images(const std::string& folder);

/// Kits, packages with images put in, and trays.
void kits(const std::string& folder);

/// Writing to a phone over TCP and UDP.
void phones(const std::string& folder);

/// Hash trees: built and checked.
void hash_trees(const std::string& folder);

}  // namespace wexlo::bench
