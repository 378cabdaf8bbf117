#pragma once
/// What `prepare` tells people.

#include <string>
#include <vector>

#include "edits.hpp"
#include "job/prepare.hpp"
#include "reply.hpp"

namespace wexlo::cli {

struct PrepareArguments {
  std::string firmware, kit, like, slots, key, signer, sheet, base;
  std::vector<std::string> with, install, accept;
  RecipeOptions recipes;
  bool wipe = false, force = false, dry_run = false, stock = false, whole = false;
  bool no_rehearsal = false;
};

/// Why what differs matters, with the codes.
[[nodiscard]] std::string fit_reasons(const std::vector<FitRow>& rows);
[[nodiscard]] std::string prepare_text(const Session& session, const PrepareArguments& options,
                                       const Prepared& done);
/// What is typed next, and the two ways to undo: for who has just made the kit.
[[nodiscard]] std::string prepare_ending(const Session& session, const PrepareArguments& options,
                                         const Prepared& done);

}  // namespace wexlo::cli
