#pragma once
/// The likeliest causes of what is wrong with a phone, each with what speaks for and against it.

#include "diagnose/evidence.hpp"

namespace wexlo {

struct RankedCause {
  Cause cause;
  int rank = 0;  ///< sum of the weights
  std::vector<Evidence> evidence, against;
  /// Something besides the symptom speaks for it.
  [[nodiscard]] bool is_supported() const;
};

struct Diagnosis {
  std::vector<RankedCause> causes;  ///< the likeliest first; what nothing speaks for is left out
};

/// Errors: Interrupted, those of reading the images.
[[nodiscard]] Result<Diagnosis> diagnose(const DiagnoseInput& input, const Context& context);

}  // namespace wexlo
