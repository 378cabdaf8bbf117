#pragma once
/// An image that is handed around, against the stock firmware it is said to be for: is it of that
/// build, what was done to it, and is there anything in it that the stock image does not explain?

#include "compare/compare.hpp"
#include "judge/subject.hpp"

namespace wexlo {

struct AgainstStock {
  std::string partition;
  std::string build;                  ///< "same", "other", "unknown"
  std::vector<std::string> evidence;  ///< clauses that speak for it
  std::vector<Difference> changes;    ///< what somebody did; what merely follows from it left out
  std::vector<std::string> lowered;   ///< protections, a sentence each
  std::vector<std::string> unexplained;  ///< content that the stock image has nowhere
  std::string verdict;  ///< "stock", "same-content", "journaled", "patched", "other-build"
  std::string sentence;
};

/// Errors: Interrupted. @pre both hold an image that reads
[[nodiscard]] Result<AgainstStock> judge_changed(const Subject& one, const Subject& stock,
                                                 const Context& context);

}  // namespace wexlo
