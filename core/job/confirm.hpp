#pragma once
/// A kit after its flash: what was seen of the phone, held against it, and kept in its record.

#include "flash/confirm.hpp"
#include "kit/folder/kit.hpp"

namespace wexlo {

struct ConfirmOptions {
  Observed observed;          ///< what was pasted, saved, or said by its bootloader
  std::filesystem::path log;  ///< of the flash; empty: the kit's own
  bool record = true;         ///< keep it in the kit's record
  std::string technician;     ///< who looked; may be empty
  verified::BenchKeyPtr key;  ///< nullptr: the entry is not signed
  Clock clock = clock_now;
};

struct ConfirmedKit {
  Confirmed confirmed;
  Observed observed;
  Expected expected;
  bool recorded = false;
  std::string record_sha256;  ///< of the entry
};

/// The runs of this kit's plan, oldest first; where the log tells of several phones, those of the
/// one with that serial number. Errors: those of the log.
[[nodiscard]] Result<std::vector<LoggedRun>> runs_of_kit(const Kit& kit,
                                                         const std::filesystem::path& log,
                                                         const std::string& serial);

/// What a kit should have made of a phone. @param log  empty: the kit's own
/// @param serial  of the phone that was looked at, where a log tells of several; empty: the last
/// Errors: those of the kit and its log, Interrupted.
[[nodiscard]] Result<Expected> expected_of_kit(const Kit& kit, const std::filesystem::path& log,
                                               const std::string& serial, const Context& context);

/// Errors: besides, those of writing the record.
[[nodiscard]] Result<ConfirmedKit> confirm_kit(const Kit& kit, const ConfirmOptions& options,
                                               const Context& context);

/// One kit's record, for a list of many.
struct ListedEntry {
  std::string kit;  ///< folder, below the one that was asked for
  RecordedEntry recorded;
  std::string done;  ///< "the plan, 9 steps, 1 failed"; empty: no log told what was done
};
struct RecordList {
  std::vector<ListedEntry> entries;  ///< by time
  std::vector<Finding> findings;     ///< of records that do not read, or were changed
  std::size_t kits = 0;
};
/// All records below a folder. Errors: those of reading the folder, Interrupted.
[[nodiscard]] Result<RecordList> list_records(const std::filesystem::path& folder,
                                              const Context& context);

}  // namespace wexlo
