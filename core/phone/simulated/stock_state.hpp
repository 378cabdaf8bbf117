#pragma once
/// What a phone held before anything was done to it.

#include <memory>
#include <set>

#include "judge/rules.hpp"
#include "judge/subject.hpp"
#include "phone/simulated/simulated_phone.hpp"

namespace wexlo {

/// What the phone held when it was taken in hand: what is the same still is not judged anew, and
/// what its maker did weighs less.
class StockState {
 public:
  /// Reads what is on the phone now. Errors: Interrupted, Io.
  [[nodiscard]] static Result<std::shared_ptr<const StockState>> of(SimulatedPhone& phone,
                                                                    std::set<std::string> own = {});
  struct Known {
    SourcePtr source;
    Subject subject;
  };
  std::map<std::string, Known> images;  ///< by full name
  std::string patch_level;              ///< YYYY-MM; empty: not known
  /// What rules would find of it, were it not its maker's: a phone that starts with them does so
  /// with changed images, too.
  std::set<std::string> troubles;
  /// Bare names of what the phone has and nobody here does: not looked at.
  std::set<std::string> own;
};
using StockStatePtr = std::shared_ptr<const StockState>;

/// A finding, or what cannot be told, as StockState::troubles has it.
[[nodiscard]] std::string trouble_text(const Finding& finding);

/// What a start looks at: read whole, and judged. @param bare  without slot suffix
[[nodiscard]] bool is_of_a_start(std::string_view bare);
/// Its start holds nothing: nobody wrote there.
[[nodiscard]] bool is_blank(const Source& source);
/// The patch level that a key store is given by images: YYYY-MM; empty: none.
[[nodiscard]] std::string patch_level_of(const Subjects& set, bool header_alone);

}  // namespace wexlo
