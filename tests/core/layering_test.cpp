/// The rules of the house: a room of core includes only rooms above it in the list, inside a room
/// arrows run one way, and core never includes the program.

#include <algorithm>
#include <fstream>
#include <map>
#include <regex>
#include <set>

#include "support/bytes.hpp"
#include "support/check.hpp"
#include "support/places.hpp"

namespace fs = std::filesystem;

namespace {

/// docs/architecture.md has the same list, with what is in each.
const std::vector<std::string> kOrder{"base",
                                      "text",
                                      "net",
                                      "codec",
                                      "archive",
                                      "image",
                                      "ramdisk",
                                      "verified",
                                      "firmware",
                                      "parts",
                                      "recipe",
                                      "judge",
                                      "seal",
                                      "kit/facts",
                                      "kit/verdict",
                                      "kit/plan",
                                      "kit/folder",
                                      "inspect",
                                      "compare",
                                      "check",
                                      "phone",
                                      "phone/fastboot",
                                      "phone/simulated",
                                      "observed",
                                      "flash",
                                      "diagnose",
                                      "figure",
                                      "report",
                                      "job"};

std::ptrdiff_t rank(const std::string& folder) {
  return std::ranges::find(kOrder, folder) - kOrder.begin();
}

/// A module: a header and the file of the same name, with what either includes from core.
using Modules = std::map<std::string, std::set<std::string>>;

Modules modules() {
  const fs::path core = fs::path(wexlo::test::source_folder()) / "core";
  const std::regex include("^#include \"([a-z_/]+)\\.hpp\"");
  Modules out;
  for (const auto& entry : fs::recursive_directory_iterator(core)) {
    if (entry.path().extension() != ".cpp" && entry.path().extension() != ".hpp") continue;
    fs::path name = entry.path().lexically_relative(core);
    std::set<std::string>& used = out[name.replace_extension().string()];
    std::ifstream file(entry.path());
    std::smatch match;
    for (std::string line; std::getline(file, line);)
      if (std::regex_search(line, match, include)) used.insert(match[1]);
  }
  return out;
}

std::string folder_of(const std::string& module) {
  return module.substr(0, module.rfind('/'));
}

}  // namespace

TEST_CASE("layering: a room includes only rooms above it in the list") {
  int seen = 0;
  for (const auto& [module, used] : modules()) {
    CAPTURE(module);
    REQUIRE(rank(folder_of(module)) < static_cast<std::ptrdiff_t>(kOrder.size()));
    for (const std::string& other : used) {
      CAPTURE(other);
      ++seen;
      CHECK(rank(folder_of(other)) <= rank(folder_of(module)));
    }
  }
  CHECK(seen > 500);
}

TEST_CASE("layering: inside a room, too, no arrow runs back") {
  const Modules all = modules();
  // Whatever a module includes, at any distance, must not include the module.
  for (const auto& [start, ignored] : all) {
    std::set<std::string> reached;
    std::vector<std::string> next{start};
    while (!next.empty()) {
      const std::string one = next.back();
      next.pop_back();
      if (!all.contains(one)) continue;
      for (const std::string& other : all.at(one)) {
        if (other == one || folder_of(other) != folder_of(start)) continue;
        CHECK_MESSAGE(other != start, start, " is included by ", one, ", which it includes");
        if (other != start && reached.insert(other).second) next.push_back(other);
      }
    }
  }
}

/// Where files are compiled together, a file's own constant would hide a header's of the same name
/// from its neighbours, without a word from the compiler.
TEST_CASE("layering: no file has a constant of the name that a header of its room has") {
  const fs::path core = fs::path(wexlo::test::source_folder()) / "core";
  const std::regex statement("(?:^|\n)(?:inline )?constexpr [^;{(]*"), name("\\b(k[A-Z]\\w*)");
  std::map<std::string, std::set<std::string>> in_headers, in_files;
  for (const auto& entry : fs::recursive_directory_iterator(core)) {
    const bool header = entry.path().extension() == ".hpp";
    if (!header && entry.path().extension() != ".cpp") continue;
    const std::string text = wexlo::test::read(entry.path());
    const std::string room = entry.path().parent_path().lexically_relative(core).string();
    for (std::sregex_iterator at(text.begin(), text.end(), statement), end; at != end; ++at) {
      const std::string found = at->str();
      std::smatch match;
      if (std::regex_search(found, match, name))
        (header ? in_headers : in_files)[room].insert(match[1]);
    }
  }
  for (const auto& [room, names] : in_files)
    for (const std::string& one : names)
      CHECK_MESSAGE(!in_headers[room].contains(one), room, ": ", one);
  CHECK(in_headers["firmware"].contains("kMajor"));
  CHECK(in_files["firmware"].contains("kSparseMajor"));
}

TEST_CASE("layering: no file is longer than 400 lines") {
  constexpr std::ptrdiff_t kMost = 400;
  int seen = 0;
  for (const char* top : {"core", "cli", "demo", "tests", "bench", "fuzz"})
    for (const auto& entry :
         fs::recursive_directory_iterator(fs::path(wexlo::test::source_folder()) / top)) {
      if (entry.path().extension() != ".cpp" && entry.path().extension() != ".hpp") continue;
      ++seen;
      CAPTURE(entry.path().string());
      CHECK(std::ranges::count(wexlo::test::read(entry.path()), '\n') <= kMost);
    }
  CHECK(seen > 500);
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
