#pragma once
/// How much is tried in this build: what the sanitizers slow down has a quarter of its rounds, and
/// leaves cases that try general tools to the release build.

#include "places.hpp"

namespace wexlo::test {

/// Of what goes by chance. @param all  rounds of the release build
inline int rounds(int all) {
  return watched() ? all / 4 : all;
}

}  // namespace wexlo::test
