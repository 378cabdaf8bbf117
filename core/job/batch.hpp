#pragma once
/// A tray of phones: many kits in one go, work that they share done once. docs/formats/tray.md.

#include <filesystem>

#include "firmware/image_cache.hpp"
#include "job/prepare_wish.hpp"

namespace wexlo {

/// One kit to be made.
struct TrayJob {
  PrepareWish wish;
  std::string kit;
  std::size_t line = 0;  ///< in the tray's file
  /// Only where the firmware is for the sheet's device, and of the build it runs where that is
  /// known.
  bool only_fitting = false;
};

/// Every firmware x recipes x sheet of every job. Paths count from the tray's folder.
/// Errors: those of reading TOML; BadValue (a key that is not known, with its line); Usage (two
/// jobs would make the same kit).
[[nodiscard]] Result<std::vector<TrayJob>> read_tray(const std::filesystem::path& file);

enum class TrayOutcome {
  Made,
  Possible,  ///< a dry run: it would be made
  Refused,   ///< a problem that nobody accepted
  Failed,    ///< an error
  Passed,    ///< the firmware is not for that phone, and was not asked for to be
};
[[nodiscard]] std::string_view outcome_word(TrayOutcome outcome);

struct TrayRow {
  TrayJob job;
  TrayOutcome outcome = TrayOutcome::Passed;
  std::string device, build, target;
  std::vector<std::string> codes;  ///< of problems
  std::string why;                 ///< a clause; empty when it was made
  std::vector<Finding> findings;
  std::optional<Error> error;
};

struct TrayOptions {
  ImageCachePtr cache;  ///< may be empty
  bool dry_run = false;
  Overwrite overwrite = Overwrite::Refuse;
  unsigned at_once = 2;  ///< kits that are made side by side
};

/// Rows in the order of the jobs. A job that fails keeps no other from being done.
/// Errors: Interrupted.
[[nodiscard]] Result<std::vector<TrayRow>> run_tray(const std::vector<TrayJob>& jobs,
                                                    const TrayOptions& options,
                                                    const Context& context);

}  // namespace wexlo
