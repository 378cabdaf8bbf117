#pragma once
/// What was seen of a phone, held against what the kit should have made of it: did it take?

#include "base/finding.hpp"
#include "flash/expected.hpp"
#include "kit/folder/record.hpp"
#include "observed/observed.hpp"

namespace wexlo {

/// What to find out next, on any phone.
struct Question {
  std::string what;   ///< row that it decides
  std::string ask;    ///< a command for a shell on the phone, or where to look
  bool typed = true;  ///< it is a command
  bool operator==(const Question&) const = default;
};

struct Confirmed {
  Took verdict = Took::CannotTell;
  std::string reason;           ///< a sentence
  std::vector<RecordRow> rows;  ///< phone first
  std::vector<Question> ask;
  std::vector<Finding> findings;
};

/// The verdict weakens with each fact that is missing; no missing fact turns it round.
[[nodiscard]] Confirmed confirm(const Expected& expected, const Observed& observed);

}  // namespace wexlo
