#include "settings.hpp"

#include <fmt/format.h>

#include <charconv>
#include <cstdlib>
#include <filesystem>
#include <thread>

#include "text/toml_read.hpp"

namespace wexlo::cli {
namespace fs = std::filesystem;
namespace {

constexpr std::int64_t kMaxJobs = 256;

std::optional<std::string> environment(const char* name) {
  const char* value = std::getenv(name);
  if (value == nullptr || *value == '\0') return std::nullopt;
  return value;
}

/// The settings file: named, or in its usual place if there is one.
std::optional<fs::path> settings_file(const std::string& named) {
  if (!named.empty()) return named;
  fs::path folder;
  if (const auto config = environment("XDG_CONFIG_HOME"))
    folder = *config;
  else if (const auto home = environment("HOME"))
    folder = fs::path(*home) / ".config";
  else
    return std::nullopt;
  const fs::path file = folder / "wexlo" / "config.toml";
  std::error_code ignored;
  if (!fs::exists(file, ignored)) return std::nullopt;
  return file;
}

}  // namespace

Result<unsigned> jobs_setting(std::optional<unsigned> option, const std::string& config) {
  std::int64_t jobs = std::max(1u, std::thread::hardware_concurrency());
  if (const auto file = settings_file(config)) {
    WEXLO_TRY(const toml::table table, read_toml(*file));
    for (const auto& [key, node] : table)
      if (key.str() != "jobs")
        return fail(toml_error(node, fmt::format("{} is no setting; there is: jobs", key.str()),
                               file->string()));
    WEXLO_TRY(jobs, toml_get_or<std::int64_t>(table, "jobs", jobs, file->string()));
    if (jobs < 1 || jobs > kMaxJobs)
      return fail(toml_error(*table.get("jobs"), fmt::format("jobs has to be 1 to {}", kMaxJobs),
                             file->string()));
  }
  if (const auto text = environment("WEXLO_JOBS")) {
    const char* end = text->data() + text->size();
    const auto [at, bad] = std::from_chars(text->data(), end, jobs);
    if (bad != std::errc() || at != end || jobs < 1 || jobs > kMaxJobs)
      return fail({.code = ErrorCode::Usage,
                   .message = "the environment's WEXLO_JOBS is not usable",
                   .expected = fmt::format("1 to {}", kMaxJobs),
                   .found = *text});
  }
  return option.value_or(static_cast<unsigned>(jobs));
}

std::optional<fs::path> cache_folder() {
  if (const auto cache = environment("XDG_CACHE_HOME")) return fs::path(*cache) / "wexlo";
  if (const auto home = environment("HOME")) return fs::path(*home) / ".cache" / "wexlo";
  return std::nullopt;
}

}  // namespace wexlo::cli
