#pragma once
/// What differs from build to build for the tests: where things are, and whether the sanitizers
/// watch. All of it is asked here, so that the tests' own objects serve every build.

#include <string>

namespace wexlo::test {

/// The program that is tested. The environment's TESTED_WEXLO names another one: a changed one has
/// to be noticed (./run mutants).
[[nodiscard]] const std::string& built_program();
/// The library that stands between the program and the disk: support/disturb.cpp.
[[nodiscard]] const std::string& disturbing_library();
/// The project's folder, for its documents and test data.
[[nodiscard]] const std::string& source_folder();

/// What the tests call was built with the sanitizers, so it is slow and needs much memory.
[[nodiscard]] bool watched();

}  // namespace wexlo::test
