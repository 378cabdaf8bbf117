#pragma once
/// Settings: the settings file, then the environment, then the options.

#include <filesystem>
#include <optional>
#include <string>

#include "base/error.hpp"

namespace wexlo::cli {

/// Threads to use. @param option  --jobs, if given  @param config  --config, if given
/// Errors: NotFound (a file named by --config), BadValue, Usage (WEXLO_JOBS is no number).
[[nodiscard]] Result<unsigned> jobs_setting(std::optional<unsigned> option,
                                            const std::string& config);

/// Where images are kept for the next kit: `$XDG_CACHE_HOME/wexlo`; nullopt: there is no such
/// place.
[[nodiscard]] std::optional<std::filesystem::path> cache_folder();

}  // namespace wexlo::cli
