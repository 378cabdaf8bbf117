#pragma once
/// How much is tried in this build: what the sanitizers slow down has a quarter of its rounds, and
/// leaves cases that try general tools to the release build.

namespace wexlo::test {

#ifdef WEXLO_WATCHED
inline constexpr bool kWatched = true;
#else
inline constexpr bool kWatched = false;
#endif

/// Of what goes by chance. @param all  rounds of the release build
constexpr int rounds(int all) {
  return kWatched ? all / 4 : all;
}

}  // namespace wexlo::test
