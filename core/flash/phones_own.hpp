#pragma once
/// What a phone has of its own, when a kit, a firmware or somebody brings only a part of it.

#include <functional>
#include <set>
#include <string>

#include "base/source.hpp"

namespace wexlo {

/// An image by its partition's bare name; nullptr: nobody here has it.
using ImageByName = std::function<SourcePtr(const std::string& partition)>;

/// Bare names of the images that a start of this phone needs and nobody here has: they are taken
/// to be as they were.
[[nodiscard]] std::set<std::string> phones_own(const ImageByName& image);

}  // namespace wexlo
