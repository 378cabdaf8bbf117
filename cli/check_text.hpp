#pragma once
/// What `check` tells people.

#include <string>
#include <vector>

#include "check/check.hpp"
#include "job/remake.hpp"
#include "reply.hpp"

namespace wexlo::cli {

struct CheckArguments {
  std::vector<std::string> paths, rollback;
  std::string against, key, lock_state, slot, repair, remake, base;
  bool no_trees = false, force = false, whole = false, allow_programs = false;
};

[[nodiscard]] std::string check_text(const Checked& checked, const CheckArguments& options,
                                     const Session& session);
/// What came of the kit that was made again; the findings tell of each file.
[[nodiscard]] std::string remade_text(const RemadeKit& remade, const Session& session);
/// All of it in one line.
[[nodiscard]] std::string check_verdict(const Checked& checked,
                                        const std::vector<Finding>& findings,
                                        const CheckArguments& options, const Session& session);

}  // namespace wexlo::cli
