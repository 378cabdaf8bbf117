/// Where two files differ, and in which part.

#include "compare/file_difference.hpp"
#include "compare/text_place.hpp"
#include "support/boot.hpp"
#include "support/check.hpp"
#include "support/containers.hpp"
#include "support/rounds.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

std::optional<FileDifference> between(const std::string& a, const std::string& b,
                                      std::string_view name) {
  return value_of(file_difference(open_memory(blob(a), "a"), open_memory(blob(b), "b"), name, {}));
}

/// Both, with one bit of one byte changed in the first.
FileDifference with_change(const std::string& whole, std::size_t at, std::string_view name) {
  std::string changed = whole;
  changed[at] ^= 1;
  const auto out = between(changed, whole, name);
  REQUIRE(out);
  return *out;
}

}  // namespace

TEST_CASE("difference: the first byte and how many, in sizes around a piece") {
  for (const std::size_t size : {1u, 7u, (1u << 20) - 1, 1u << 20, (1u << 20) + 1, 3u << 20}) {
    CAPTURE(size);
    const std::string whole = noise(size, 1);
    CHECK_FALSE(between(whole, whole, "x.bin"));
    for (const std::size_t at : {std::size_t{0}, size / 2, size - 1}) {
      const FileDifference one = with_change(whole, at, "x.bin");
      CHECK(one.offset == at);
      CHECK(one.differing == 1);
      CHECK(one.part.empty());
    }
    // A file that goes on differs from where the other ends.
    const auto longer = between(whole + "123", whole, "x.bin");
    REQUIRE(longer);
    CHECK(longer->offset == size);
    CHECK(longer->differing == 3);
    CHECK(longer->b == "(its end)");
    CHECK(longer->a == "313233");
  }
  CHECK(between("", "a", "x.bin")->offset == 0);
}

TEST_CASE("difference: the parts of an image and of a tar") {
  const std::string image = BootBytes{.version = 2,
                                      .page = 2048,
                                      .kernel = noise(5000, 1),
                                      .ramdisk = gzip(CpioBytes{}.file("init", "#!/x\n").done())}
                                .done();
  CHECK(with_change(image, 8192 + 20, "flash/boot.img").part.starts_with("ramdisk"));
  CHECK(with_change(image, 40, "flash/boot.img").part == "header");
  CHECK(with_change(image, 2048 + 10, "flash/boot.img").part == "kernel");
  CHECK(with_change(image, 2048 + 5000 + 10, "flash/boot.img").part == "padding of kernel");
  // Names that end so and hold something else have no part, and are no error.
  CHECK(with_change("no image", 2, "flash/boot.img").part.empty());
  CHECK(with_change("no archive", 2, "x.tar.md5").part.empty());

  const std::string archive = tar({{"boot.img", noise(1000, 1)}, {"dtbo.img", noise(700, 2)}});
  CHECK(with_change(archive, 512 + 10, "package/x.tar.md5").part == "boot.img");
  CHECK(with_change(archive, 512 + 1024 + 512 + 10, "package/x.tar.md5").part == "dtbo.img");
  CHECK(with_change(archive, 20, "package/x.tar.md5").part == "the header of boot.img");
}

TEST_CASE("text place: the line, and what it is in") {
  const std::string json =
      "{\n  \"a\": [\n    {\n      \"b,\\\"{\": 1\n    },\n    {\n      \"c\": [7, 8]\n    }\n  "
      "],\n"
      "  \"d\": \"x:y,z\"\n}\n";
  CHECK(text_place(json, json.find("1\n"), "kit.json") == "line 4, a[0].b,\\\"{");
  CHECK(text_place(json, json.find('7'), "kit.json") == "line 7, a[1].c[0]");
  CHECK(text_place(json, json.find('8'), "kit.json") == "line 7, a[1].c[1]");
  CHECK(text_place(json, json.find("y,z"), "kit.json") == "line 10, d");
  const std::string toml = "a = 1\n[build]\nb = 2\n[[step]]\nc = \"[x]\"\n";
  CHECK(text_place(toml, 2, "plan.toml") == "line 1");
  CHECK(text_place(toml, toml.find('b', 10), "plan.toml") == "line 3, in [build]");
  CHECK(text_place(toml, toml.find("[x]"), "plan.toml") == "line 5, in [[step]]");
  CHECK(text_place("<h1>A</h1>\n<h2 id=\"x\">Plan &amp; more</h2>\n<p>z", 50, "r.html") ==
        "line 3, below \"Plan &amp; more\"");
  CHECK(text_place("a\nb", 2, "plan.txt") == "line 2");
  CHECK(line_around("one\ntwo\nthree", 4) == "two");
  CHECK(line_around("one\ntwo\nthree", 3) == "one");
  CHECK(line_around("", 0).empty());
  CHECK(line_around(std::string(300, 'a'), 150).size() < 90);
}

TEST_CASE("text place: any text and any offset give some place") {
  Random random(11);
  for (int round = 0; round < rounds(300); ++round) {
    std::string text;
    for (std::uint32_t i = random() % 60; i > 0; --i)
      text += "{}[],:\"\\\n<h2>ab"[random() % 15];
    for (const char* name : {"a.json", "a.toml", "a.html", "a.txt"})
      for (const std::size_t at : {std::size_t{0}, text.size() / 2, text.size(), text.size() + 9}) {
        CHECK(text_place(text, at, name).starts_with("line "));
        CHECK(line_around(text, at).find('\n') == std::string::npos);
      }
  }
}
