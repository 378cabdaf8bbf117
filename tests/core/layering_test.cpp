/// The rule of the house: a folder of core includes only folders above it in the list, and core
/// never includes the program.

#include <algorithm>
#include <fstream>
#include <regex>

#include "support/bytes.hpp"
#include "support/check.hpp"
#include "support/places.hpp"

namespace fs = std::filesystem;

namespace {

const std::vector<std::string> kOrder{"base",     "codec",    "archive", "image",  "ramdisk",
                                      "verified", "firmware", "parts",   "recipe", "judge",
                                      "kit",      "phone",    "figure",  "report", "job"};

std::ptrdiff_t rank(const std::string& folder) {
  return std::ranges::find(kOrder, folder) - kOrder.begin();
}

}  // namespace

TEST_CASE("layering: bytes go one way") {
  const fs::path core = fs::path(wexlo::test::source_folder()) / "core";
  const std::regex include("^#include \"([a-z_]+)/");
  int seen = 0;
  for (const auto& entry : fs::recursive_directory_iterator(core)) {
    if (entry.path().extension() != ".cpp" && entry.path().extension() != ".hpp") continue;
    const std::string folder = entry.path().parent_path().lexically_relative(core).string();
    CAPTURE(entry.path().string());
    REQUIRE(rank(folder) < static_cast<std::ptrdiff_t>(kOrder.size()));
    std::ifstream file(entry.path());
    for (std::string line; std::getline(file, line);) {
      std::smatch match;
      if (!std::regex_search(line, match, include)) continue;
      CAPTURE(line);
      ++seen;
      CHECK(rank(match[1]) <= rank(folder));
    }
  }
  CHECK(seen > 100);
}

TEST_CASE("layering: core neither prints nor knows a terminal") {
  const std::regex forbidden("std::(cout|cerr|clog)|printf\\(|isatty|getenv|<iostream>|<CLI/");
  for (const auto& entry :
       fs::recursive_directory_iterator(fs::path(wexlo::test::source_folder()) / "core")) {
    if (!entry.is_regular_file()) continue;
    CAPTURE(entry.path().string());
    CHECK_FALSE(std::regex_search(wexlo::test::read(entry.path()), forbidden));
  }
}
