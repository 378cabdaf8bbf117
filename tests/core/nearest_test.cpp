/// Mistyped words, and sentences in lines.

#include <doctest/doctest.h>

#include "text/fill.hpp"
#include "text/nearest.hpp"

using namespace wexlo;

namespace {
const std::vector<std::string> kPartitions{"boot",   "init_boot",     "vendor_boot",
                                           "vbmeta", "vbmeta_system", "dtbo"};
}

TEST_CASE("nearest: one slip of each kind is found, whatever the case") {
  CHECK(nearest("init_bot", kPartitions) == "init_boot");
  CHECK(nearest("init_booot", kPartitions) == "init_boot");
  CHECK(nearest("inti_boot", kPartitions) == "init_boot");
  CHECK(nearest("imit_boot", kPartitions) == "init_boot");
  CHECK(nearest("VBMETA_SYSTEN", kPartitions) == "vbmeta_system");
  CHECK(nearest("botò", kPartitions).value_or("none") != "dtbo");
}

TEST_CASE("nearest: a word begun is found where nothing else begins so") {
  CHECK(nearest("vendor", kPartitions) == "vendor_boot");
  CHECK(nearest("vbmeta_s", kPartitions) == "vbmeta_system");
  CHECK_FALSE(nearest("vb", kPartitions));
}

TEST_CASE("nearest: what is far, empty, right or endless has no advice") {
  for (const char* word : {"", "boot", "cake", "system_ext_a", "x"})
    CHECK_FALSE(nearest(word, kPartitions));
  CHECK_FALSE(nearest(std::string(100'000, 'a'), kPartitions));
  CHECK(did_you_mean("cake", kPartitions).empty());
  CHECK(did_you_mean("dtob", kPartitions) == "Did you mean \"dtbo\"? ");
}

TEST_CASE("nearest: slips are counted as people make them") {
  CHECK(slips_between("boot", "boot") == 0);
  CHECK(slips_between("boot", "Boot") == 0);
  CHECK(slips_between("boot", "bot") == 1);
  CHECK(slips_between("boot", "obot") == 1);
  CHECK(slips_between("", "abc") == 3);
  CHECK(slips_between("abc", "") == 3);
}

TEST_CASE("fill: lines are as wide as asked, words stay whole, what goes on stands in") {
  CHECK(filled("one two three", 9) == "one two\nthree\n");
  CHECK(filled("one two three", 9, "  ", "- ") == "- one two\n  three\n");
  CHECK(filled("averylongwordindeed x", 6, " ") == " averylongwordindeed\n x\n");
  CHECK(filled("", 10, "  ") == "\n");
  CHECK(columns_of("häß") == 3);
  for (std::size_t width = 1; width < 40; ++width) {
    const std::string text = filled("The battery holds at least 30 %, the cable sits well.", width);
    std::size_t begin = 0;
    while (begin < text.size()) {
      const std::size_t end = text.find('\n', begin);
      const std::string line = text.substr(begin, end - begin);
      CHECK((line.size() <= width || line.find(' ') == line.npos));
      begin = end + 1;
    }
  }
}
