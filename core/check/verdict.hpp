#pragma once
/// Whether a locked and an unlocked phone start what was checked, as sentences.

#include "check/check.hpp"

namespace wexlo {

/// What the chain's structs say of a partition, a clause; empty: nothing.
[[nodiscard]] std::string standing_detail(const verified::Walk& walk, const std::string& partition);

/// By the chain that was walked. Precondition: it has a struct at its top.
void judge_by_chain(Checked& out);

/// What is known where nothing here is at the top of a chain.
struct WithoutChain {
  bool footers = false;  ///< an image has a footer of its own
  bool stock = true;     ///< all are as their maker built them, as far as can be told
  bool wrong = false;    ///< an image is not the one that its own digest is of
};
void judge_without_chain(const WithoutChain& seen, Checked& out);

/// A loader may take what cannot come up: that is no start.
/// @param unknown  what could not be judged, clauses
void judge_coming_up(const std::vector<Finding>& found, const std::vector<std::string>& unknown,
                     Checked& out);

/// A patched image is made for an unlocked phone: what stops a locked one alone is a warning then.
void judge_for_unlocked(Checked& out);

}  // namespace wexlo
