#pragma once
/// How much is tried in this build: what the sanitizers slow down has a quarter of its rounds, and
/// leaves cases that try general tools to the release build.

#include <cstddef>

#include "places.hpp"

namespace wexlo::test {

/// Of what goes by chance. @param all  rounds of the release build
inline int rounds(int all) {
  return watched() ? all / 4 : all;
}

/// Bytes from one that is tried to the next. @param each  in the release build
inline std::size_t apart(std::size_t each) {
  return watched() ? 5 * each : each;
}

}  // namespace wexlo::test
