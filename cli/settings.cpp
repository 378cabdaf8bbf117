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

constexpr SettingKind kSettings[] = {
    {"jobs", "WEXLO_JOBS", "threads to use, 1 to 256; else one for each processor core"},
    {"color", "WEXLO_COLOR", "auto, always or never; else auto"},
    {"cache_bound", "WEXLO_CACHE_BOUND",
     "what batch keeps of images at most, like \"2G\"; 0: nothing"},
    {"sheets", "WEXLO_SHEETS", "a folder: --sheet NAME finds NAME.toml there"},
    {"recipes", "WEXLO_RECIPES", "a folder: -r @NAME finds NAME.toml or NAME/recipe.toml there"},
    {"technician", "WEXLO_TECHNICIAN", "a name that the report of a kit shows"},
};
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

/// Takes one value in; the problem, if it does not read: what is wanted.
std::optional<std::string> take(UserSettings& out, std::string_view key, const std::string& text,
                                const fs::path& base) {
  if (key == "jobs") {
    constexpr unsigned kMost = 256;
    const auto [end, bad] = std::from_chars(text.data(), text.data() + text.size(), out.jobs);
    const bool reads = bad == std::errc() && end == text.data() + text.size();
    if (!reads || out.jobs < 1 || out.jobs > kMost) return "1 to 256";
  } else if (key == "color") {
    if (text != "auto" && text != "always" && text != "never") return "auto, always or never";
    out.color = text;
  } else if (key == "cache_bound") {
    const auto size = text == "0" ? std::optional<std::uint64_t>(0) : size_from(text, kMostCache);
    if (!size) return "a size, e.g. 2G, or 0";
    out.cache_bound = *size;
  } else if (key == "sheets") {
    out.sheets = folder_of(text, base);
  } else if (key == "recipes") {
    out.recipes = folder_of(text, base);
  } else {
    out.technician = text;
  }
  return std::nullopt;
}

Status read_file(UserSettings& out, const fs::path& file) {
  WEXLO_TRY(const toml::table table, read_toml(file));
  std::vector<std::string> keys;
  for (const SettingKind& kind : kSettings)
    keys.emplace_back(kind.key);
  for (const auto& [key, node] : table) {
    const std::string name(key.str());
    const auto wrong = [&](std::string message, std::string expected = {}) {
      Error error = toml_error(node, std::move(message), file.string());
      error.expected = std::move(expected);
      return error;
    };
    if (std::ranges::find(keys, name) == keys.end()) {
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
    if (const auto wanted = take(out, name, text, file.parent_path())) {
      Error error = wrong(fmt::format("the setting {} does not read", name), *wanted);
      error.found = text;
      return fail(std::move(error));
    }
  }
  return {};
}

}  // namespace

std::span<const SettingKind> setting_kinds() {
  return kSettings;
}

Result<UserSettings> read_settings(const std::string& config) {
  UserSettings out;
  out.jobs = std::clamp(std::thread::hardware_concurrency(), 1u, 256u);
  if (const auto file = settings_file(config)) WEXLO_CHECK(read_file(out, *file));
  for (const SettingKind& kind : kSettings) {
    const auto text = environment(std::string(kind.variable).c_str());
    if (!text) continue;
    if (auto wanted = take(out, kind.key, *text, {}))
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
