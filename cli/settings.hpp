#pragma once
/// Settings: the settings file, then the environment (WEXLO_...), then the options.

#include <cstdint>
#include <filesystem>
#include <optional>
#include <string>
#include <string_view>

#include "base/error.hpp"

namespace wexlo::cli {

struct UserSettings {
  unsigned jobs = 1;                                   ///< threads, 1 to 256
  std::string color = "auto";                          ///< auto, always, never
  std::uint64_t cache_bound = std::uint64_t{2} << 30;  ///< bytes that batch keeps; 0: none
  std::filesystem::path sheets;     ///< where `--sheet NAME` is looked for; empty: nowhere else
  std::filesystem::path recipes;    ///< where `-r @NAME` is looked for besides
  std::string technician;           ///< named in the report of a kit, and in its record
  std::filesystem::path bench_key;  ///< signs records; empty: they are not signed
};

/// A number of threads; nullopt: it is none from 1 to 256.
[[nodiscard]] std::optional<unsigned> jobs_from(std::string_view text);

/// @param config  --config, if given; else the usual file, if it is there.
/// Errors: NotFound (a file named by --config), BadValue, Usage (a variable that does not read).
[[nodiscard]] Result<UserSettings> read_settings(const std::string& config);

/// Where images are kept for the next kit: `$XDG_CACHE_HOME/wexlo`; nullopt: there is no such
/// place.
[[nodiscard]] std::optional<std::filesystem::path> cache_folder();

}  // namespace wexlo::cli
