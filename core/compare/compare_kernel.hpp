#pragma once
/// Two kernels of one build as they run, unpacked.

#include "base/pool.hpp"
#include "compare/difference.hpp"
#include "image/layout.hpp"

namespace wexlo {

/// The places that differ, a few by a few. Nothing is added where one of the two does not come
/// apart.
void compare_kernels(const Blob& a, const Blob& b, const Context& context,
                     std::vector<Difference>& out);

}  // namespace wexlo
