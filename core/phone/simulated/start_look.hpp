#pragma once
/// What a start finds on a simulated phone: images, chain, rules, and whose hand they show.

#include "judge/joined.hpp"
#include "phone/simulated/started.hpp"
#include "phone/simulated/stock_state.hpp"
#include "verified/chain.hpp"

namespace wexlo {

struct StartLook {
  Subjects set;  ///< of one slot
  verified::Walk walk;
  Joined joined;  ///< refers to `set`
  std::vector<Finding> findings;
  std::vector<std::string> unknown;        ///< clauses
  std::vector<std::string> changed_names;  ///< full names of what is not as it was
  AddonSeen addon = AddonSeen::None;
  std::string asleep;           ///< partition with something put in that nothing runs; empty: none
  bool recovery_alone = false;  ///< recovery is what was changed of the ramdisks, and nothing else
  std::vector<std::string> log;
  [[nodiscard]] bool changed() const { return !changed_names.empty(); }
  /// Data of another form behind lz4 data, which has no end mark.
  [[nodiscard]] bool joint_breaks() const;
};

/// @param slot  "a", "b", or empty  @param once  in the place of boot; nullptr: what is there
/// Errors: Interrupted, Io.
[[nodiscard]] Result<StartLook> look_at(SimulatedPhone& phone, const std::string& slot,
                                        const StockStatePtr& stock, const SourcePtr& once);

}  // namespace wexlo
