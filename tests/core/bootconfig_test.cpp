/// The kernel's grammar and bounds of a bootconfig: beyond them it throws the whole away.

#include "judge/subject.hpp"
#include "support/check.hpp"

using namespace wexlo;

TEST_CASE("bootconfig: each of the kernel's bounds is taken, one more is not") {
  const auto takes = [](const std::string& text) { return bootconfig_trouble(text).empty(); };
  const auto repeated = [](std::size_t count, const std::string& word) {
    std::string out;
    for (std::size_t i = 0; i < count; ++i)
      out += word;
    return out;
  };
  // Bytes in all.
  const std::string head = "a = ";
  CHECK(takes(head + std::string(32767 - head.size(), 'x')));
  CHECK_FALSE(takes(head + std::string(32768 - head.size(), 'x')));
  // Nodes: each word of a key is one, and each value.
  std::string many = "a = x";
  for (int i = 0; i < 8190; ++i)
    many += ",x";
  CHECK(takes(many));
  CHECK_FALSE(takes(many + ",x"));
  // Levels, in one key and by groups.
  CHECK(takes("a" + repeated(15, ".b") + " = 1"));
  CHECK_FALSE(takes("a" + repeated(16, ".b") + " = 1"));
  CHECK(takes(repeated(15, "g {\n") + "a = 1\n" + repeated(15, "}\n")));
  CHECK_FALSE(takes(repeated(16, "g {\n") + "a = 1\n" + repeated(16, "}\n")));
  // Letters of a word.
  CHECK(takes(std::string(255, 'w') + " = 1"));
  CHECK_FALSE(takes(std::string(256, 'w') + " = 1"));
}

TEST_CASE("bootconfig: behind a group's end keys stand where they stood before it") {
  CHECK(bootconfig_trouble("g {\na = 1\n}\na = 1\n").empty());
  CHECK(bootconfig_trouble("g {\na = 1\n}\ng.a = 1\n").contains("g.a is set twice"));
  CHECK(bootconfig_trouble("a = 1\ng {\nb = 1\n}\na = 2\n").contains("a is set twice"));
  CHECK(bootconfig_trouble("g {\nh {\na = 1\n}\nb = 1\n}\ng.b = 1\n").contains("g.b is set twice"));
  // Fifteen levels opened and closed leave room for fifteen more.
  std::string deep;
  for (int round = 0; round < 2; ++round) {
    for (int i = 0; i < 15; ++i)
      deep += "g" + std::to_string(round) + " {\n";
    deep += "a = 1\n";
    for (int i = 0; i < 15; ++i)
      deep += "}\n";
  }
  CHECK(bootconfig_trouble(deep).empty());
}
