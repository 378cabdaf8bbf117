#include "settings.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cstdlib>
#include <thread>

#include "size_text.hpp"
#include "text/nearest.hpp"
#include "text/toml_read.hpp"

namespace wexlo::cli {
namespace fs = std::filesystem;
namespace {

constexpr std::uint64_t kMostCache = std::uint64_t{1} << 44;

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

/// `~/x` from the home folder; other relative paths from `base`.
fs::path folder_of(const std::string& text, const fs::path& base) {
  if (const auto home = environment("HOME"); home && (text == "~" || text.starts_with("~/")))
    return fs::path(*home) / (text.size() > 2 ? text.substr(2) : "");
  return base / text;
}

/// Takes a value in; what is wanted, if it does not read. @param base  relative folders are in it
using Take = std::optional<std::string> (*)(UserSettings&, const std::string& text,
                                            const fs::path& base);

struct SettingKind {
  std::string_view key, variable;
  Take take;
};
/// docs/commands.md has the same rows, with what each is for.
constexpr SettingKind kSettings[] = {
    {"jobs", "WEXLO_JOBS",
     [](UserSettings& out, const std::string& text, const fs::path&) -> std::optional<std::string> {
       const auto jobs = jobs_from(text);
       if (!jobs) return "1 to 256";
       out.jobs = *jobs;
       return std::nullopt;
     }},
    {"color", "WEXLO_COLOR",
     [](UserSettings& out, const std::string& text, const fs::path&) -> std::optional<std::string> {
       if (text != "auto" && text != "always" && text != "never") return "auto, always or never";
       out.color = text;
       return std::nullopt;
     }},
    {"cache_bound", "WEXLO_CACHE_BOUND",
     [](UserSettings& out, const std::string& text, const fs::path&) -> std::optional<std::string> {
       const auto size =
           text == "0" ? std::optional<std::uint64_t>(0) : size_from(text, kMostCache);
       if (!size) return "a size, e.g. 2G, or 0";
       out.cache_bound = *size;
       return std::nullopt;
     }},
    {"sheets", "WEXLO_SHEETS",
     [](UserSettings& out, const std::string& text,
        const fs::path& base) -> std::optional<std::string> {
       out.sheets = folder_of(text, base);
       return std::nullopt;
     }},
    {"recipes", "WEXLO_RECIPES",
     [](UserSettings& out, const std::string& text,
        const fs::path& base) -> std::optional<std::string> {
       out.recipes = folder_of(text, base);
       return std::nullopt;
     }},
    {"technician", "WEXLO_TECHNICIAN",
     [](UserSettings& out, const std::string& text, const fs::path&) -> std::optional<std::string> {
       out.technician = text;
       return std::nullopt;
     }},
    {"bench_key", "WEXLO_BENCH_KEY",
     [](UserSettings& out, const std::string& text,
        const fs::path& base) -> std::optional<std::string> {
       out.bench_key = folder_of(text, base);
       return std::nullopt;
     }},
};

Status read_file(UserSettings& out, const fs::path& file) {
  WEXLO_TRY(const toml::table table, read_toml(file));
  std::vector<std::string> keys;
  for (const SettingKind& one : kSettings)
    keys.emplace_back(one.key);
  for (const auto& [key, node] : table) {
    const std::string name(key.str());
    const auto wrong = [&](std::string message, std::string expected = {}) {
      Error error = toml_error(node, std::move(message), file.string());
      error.expected = std::move(expected);
      return error;
    };
    const auto* const kind = std::ranges::find(kSettings, name, &SettingKind::key);
    if (kind == std::end(kSettings)) {
      Error error = wrong(fmt::format("there is no setting \"{}\"", name));
      error.hint = did_you_mean(name, keys) + fmt::format("There are: {}.", fmt::join(keys, ", "));
      return fail(std::move(error));
    }
    std::string text;
    if (const auto string = node.value_exact<std::string>())
      text = *string;
    else if (const auto number = node.value_exact<std::int64_t>())
      text = fmt::format("{}", *number);
    else
      return fail(wrong(fmt::format("the setting {} is of the wrong type", name),
                        "a text in quotes, or a number"));
    if (const auto wanted = kind->take(out, text, file.parent_path())) {
      Error error = wrong(fmt::format("the setting {} does not read", name), *wanted);
      error.found = text;
      return fail(std::move(error));
    }
  }
  return {};
}

}  // namespace

std::optional<unsigned> jobs_from(std::string_view text) {
  constexpr unsigned kMost = 256;
  unsigned jobs = 0;
  const auto [end, bad] = std::from_chars(text.data(), text.data() + text.size(), jobs);
  if (bad != std::errc() || end != text.data() + text.size() || jobs < 1 || jobs > kMost)
    return std::nullopt;
  return jobs;
}

Result<UserSettings> read_settings(const std::string& config) {
  UserSettings out;
  out.jobs = std::clamp(std::thread::hardware_concurrency(), 1u, 256u);
  if (const auto file = settings_file(config)) WEXLO_CHECK(read_file(out, *file));
  for (const SettingKind& kind : kSettings) {
    const auto text = environment(std::string(kind.variable).c_str());
    if (!text) continue;
    if (auto wanted = kind.take(out, *text, {}))
      return fail({.code = ErrorCode::Usage,
                   .message = fmt::format("the environment's {} does not read", kind.variable),
                   .expected = std::move(*wanted),
                   .found = *text});
  }
  return out;
}

std::optional<fs::path> cache_folder() {
  if (const auto cache = environment("XDG_CACHE_HOME")) return fs::path(*cache) / "wexlo";
  if (const auto home = environment("HOME")) return fs::path(*home) / ".cache" / "wexlo";
  return std::nullopt;
}

}  // namespace wexlo::cli
