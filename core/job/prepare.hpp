#pragma once
/// The main job: firmware and recipes in, a kit ready for flashing out.

#include <filesystem>
#include <set>

#include "flash/rehearsal.hpp"
#include "job/prepare_options.hpp"
#include "kit/folder/kit_draft.hpp"

namespace wexlo {

struct Prepared {
  KitDraft kit;  ///< as far as it was worked out; of a kit that was written, with all digests
  /// A problem that nobody accepted: there is no kit. The findings say which.
  bool stopped = false;
  std::set<std::string> accepted;        ///< codes of problems that a person has said yes to
  std::optional<Rehearsal> rehearsal{};  ///< nullopt: it was not asked for, or came to nothing
};

/// What a person has to decide is no error: see Prepared::stopped. Errors: Usage (several packages
/// to install), WouldRefuse (even an unlocked phone would not start it), NoTarget, NoMatch,
/// DoesNotFit, ForeignPatch, Exists, and those of reading the firmware and patching. On failure,
/// and when it was stopped, nothing appears at `kit`.
/// @param kit  not looked at in a dry run, which tells fit, verdict and plan all the same
[[nodiscard]] Result<Prepared> prepare(const std::filesystem::path& firmware,
                                       const PrepareOptions& options,
                                       const std::filesystem::path& kit, const Context& context);

/// The same into a folder that nobody has named yet, and that need not get its name: `prepare`
/// without what it does to the disk around it.
[[nodiscard]] Result<Prepared> prepare_into(const std::filesystem::path& firmware,
                                            const PrepareOptions& options, OutputFolder& folder,
                                            const Context& context);

/// What has to be told of a code for --accept that nothing answered to: it may be mistyped.
[[nodiscard]] Finding unused_code(const std::string& code);
/// Codes of what stopped it, for --accept.
[[nodiscard]] std::vector<std::string> stopping(const Prepared& prepared);

}  // namespace wexlo
