#pragma once
/// What the rows of a look at a phone say together.

#include "kit/folder/record.hpp"

namespace wexlo {

/// What a row decides over.
enum class RowWeight {
  Phone,   ///< another one: nothing can be told
  Place,   ///< what was written is not what was started
  Core,    ///< what was put in
  Side,    ///< how the phone is besides
  Advice,  ///< it does not count
};

struct RowsVerdict {
  Took took = Took::CannotTell;
  std::string reason;  ///< a sentence
};

/// With a row less the verdict is the same, or cannot be told.
/// @param weights  of the rows  @param stock  stock images were put back
[[nodiscard]] RowsVerdict verdict_of(const std::vector<RecordRow>& rows,
                                     const std::vector<RowWeight>& weights, bool stock);

}  // namespace wexlo
