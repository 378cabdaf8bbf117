/// Kits of many kinds, held by the digests of all their files: whoever moves code about sees what
/// else moved. Where a kit is meant to change, the list is written anew and its difference read:
/// WEXLO_KIT_DIGESTS=tests/data/kit-digests.txt build/release/tests/wexlo_program_tests
/// --source-file="*kit_digests_test*"

#include <cstdlib>

#include "program/kits_bench.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

/// Makes a kit and lists it.
std::string kit_lines(const TempDir& dir, const std::string& kit, std::vector<std::string> words) {
  CAPTURE(kit);
  words.insert(words.begin(), "prepare");
  words.insert(words.end(), {"-o", kit});
  const Ran ran = program(dir, words);
  REQUIRE_MESSAGE(ran.exit_code == 0, ran.err, ran.out);
  std::string out;
  for (const std::string& name : files_of(dir / kit))
    out += hex_of(sha256(read(dir / kit / name))) + "  " + kit + "/" + name + "\n";
  return out;
}

/// Kits of many kinds.
std::string all_kits() {
  std::string out;
  const Bench bench;
  for (const auto& [kit, words] : slotted_kits(bench))
    out += kit_lines(bench.dir, kit, words);
  const TempDir older;
  for (const auto& [kit, words] : older_kits(older))
    out += kit_lines(older, kit, words);
  return out;
}

std::set<std::string> lines(const std::string& text) {
  std::set<std::string> out;
  std::istringstream in(text);
  for (std::string line; std::getline(in, line);)
    out.insert(line);
  return out;
}

}  // namespace

TEST_CASE("kits: every file of every kind of kit is the one that it was") {
  const std::string found = all_kits();
  if (const char* file = std::getenv("WEXLO_KIT_DIGESTS")) write(file, found);
  const auto listed = lines(read(source_folder() + "/tests/data/kit-digests.txt"));
  const auto now = lines(found);
  CHECK(now.size() > 100);
  for (const std::string& one : now)
    CHECK_MESSAGE(listed.contains(one), "not as listed: ", one);
  for (const std::string& one : listed)
    CHECK_MESSAGE(now.contains(one), "gone, or another: ", one);
}
