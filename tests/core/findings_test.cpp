/// The registry of findings, and the page that is made from it.

#include "base/finding.hpp"

#include <algorithm>
#include <regex>

#include "base/error_table.hpp"
#include "support/check.hpp"
#include "support/places.hpp"

using namespace wexlo;
using namespace wexlo::test;
namespace fs = std::filesystem;

TEST_CASE(
    "findings: every code is spelled once in its area, in small letters, and says what it is") {
  for (const FindingKind& one : finding_kinds()) {
    CAPTURE(one.name);
    CHECK(std::regex_match(std::string(one.name), std::regex("[a-z][a-z0-9-]*[a-z0-9]")));
    CHECK_FALSE(one.about.empty());
    CHECK_FALSE(one.about.ends_with('.'));
    CHECK((one.to_do.empty() || one.to_do.ends_with('.')));
    CHECK(why_of(one.code).ends_with('.'));
    CHECK(&kind_of(one.code) == &one);
    CHECK(std::ranges::count_if(kinds_of(one.area), [&](const FindingKind* other) {
            return other->name == one.name;
          }) == 1);
    // A problem is something to do something about.
    if (one.level == Level::Problem) CHECK_FALSE(one.to_do.empty());
  }
}

TEST_CASE("findings: a code is found with what it is about, the longest name first") {
  const auto only = [](std::string_view name) {
    const auto found = find_kinds(name);
    REQUIRE(found.size() == 1);
    return found.front()->code;
  };
  CHECK(only("no-room-system") == FindingCode::NoRoom);
  CHECK(only("given-placeholder-boot") == FindingCode::GivenPlaceholder);
  CHECK(only("mount-not-covered-system") == FindingCode::MountNotCovered);
  CHECK(only("rollback-3") == FindingCode::FitRollback);
  CHECK(only("rollback-index") == FindingCode::RollbackIndex);
  CHECK(find_kinds("patch-level").size() == 2);  // of check, and of the fit
  CHECK(find_kinds("no-such-thing").empty());
  CHECK(find_kinds("").empty());
  CHECK(FindingId(FindingCode::NoRoom, "system").text() == "no-room-system");
  CHECK(FindingId(FindingCode::KitFile).text() == "kit-file");
}

TEST_CASE("errors: every code is spelled once, and says what happened and what to do") {
  for (int i = 0; i <= static_cast<int>(ErrorCode::Interrupted); ++i) {
    const std::string_view name = code_name(static_cast<ErrorCode>(i));
    CAPTURE(name);
    const ErrorKind* const kind = find_error(name);
    REQUIRE(kind != nullptr);
    CHECK(kind->code == static_cast<ErrorCode>(i));
    CHECK(kind->about.ends_with('.'));
    CHECK(kind->to_do.ends_with('.'));
    CHECK((kind->why.empty() || kind->why.ends_with('.')));
  }
  CHECK(error_kinds().size() == static_cast<std::size_t>(ErrorCode::Interrupted) + 1);
  CHECK(find_error("cake") == nullptr);
}

TEST_CASE("findings: every kind is used somewhere") {
  std::string all;
  for (const char* folder : {"core", "cli"})
    for (const auto& entry : fs::recursive_directory_iterator(fs::path(source_folder()) / folder))
      if (entry.path().extension() == ".cpp" && entry.path().filename() != "finding.cpp")
        all += read(entry.path());
  const std::string header = read(fs::path(source_folder()) / "core/base/finding.hpp");
  const std::regex name("\n  ([A-Z][A-Za-z]+),");
  const std::size_t begin = header.find("enum class FindingCode"), end = header.find("};", begin);
  const std::string codes = header.substr(begin, end - begin);
  int seen = 0;
  for (std::sregex_iterator at(codes.begin(), codes.end(), name), last; at != last; ++at, ++seen)
    CHECK_MESSAGE(std::regex_search(all, std::regex("FindingCode::" + (*at)[1].str() + "\\b")),
                  (*at)[1].str());
  CHECK(seen > 100);
}
