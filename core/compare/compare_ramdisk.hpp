#pragma once
/// The ramdisks of two images, entry by entry as a kernel leaves them.

#include "compare/compare.hpp"

namespace wexlo {

void compare_ramdisks(const ImageReading& a, const ImageReading& b, std::vector<Difference>& out);

}  // namespace wexlo
