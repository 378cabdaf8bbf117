#include "firmware/relist.hpp"

#include <algorithm>

#include "support/check.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

const std::string kOld = "0123456789abcdef0123456789abcdef",
                  kNew = "ffffffffffffffffffffffffffffffff";

FileChange change(const std::string& name, std::uint64_t before = 100, std::uint64_t after = 250) {
  return {.name = name, .old_size = before, .new_size = after, .digests = {{kOld, kNew}}};
}

std::string relisted(const std::string& text, const std::vector<std::string>& others = {},
                     const std::vector<FileChange>& changes = {change("boot.img")}) {
  return relist(text, changes, others).text;
}

}  // namespace

TEST_CASE("relist: lists of digests, whatever their form; everything else stays") {
  CHECK(relisted("# sums\r\n" + kOld + "  boot.img\r\nother line\n") ==
        "# sums\r\n" + kNew + "  boot.img\r\nother line\n");
  CHECK(relisted(kOld + " *images/boot.img\n") == kNew + " *images/boot.img\n");
  CHECK(relisted("MD5 (boot.img) = " + kOld) == "MD5 (boot.img) = " + kNew);
  CHECK(relisted("{\"boot.img\": \"" + kOld + "\"}") == "{\"boot.img\": \"" + kNew + "\"}");
}

TEST_CASE("relist: capitals stay capitals") {
  std::string upper = kOld, wanted = kNew;
  std::ranges::transform(upper, upper.begin(), ::toupper);
  std::ranges::transform(wanted, wanted.begin(), ::toupper);
  CHECK(relisted("boot.img " + upper) == "boot.img " + wanted);
}

TEST_CASE("relist: a part of a longer word is another word") {
  for (const std::string& text : {"x" + kOld + " boot.img", kOld + "0 boot.img", "_" + kOld})
    CHECK(relisted(text) == text);
}

TEST_CASE("relist: two files of one content: only the one that changed gets another digest") {
  const std::string text = kOld + "  boot_a.img\n" + kOld + "  boot_b.img\n";
  CHECK(relisted(text, {"boot_b.img"}, {change("boot_a.img")}) ==
        kNew + "  boot_a.img\n" + kOld + "  boot_b.img\n");
  const std::string xml = "<all><file name=\"boot_a.img\" md5=\"" + kOld +
                          "\"/><file name=\"boot_b.img\" md5=\"" + kOld + "\"/></all>";
  const std::string got = relisted(xml, {"boot_b.img"}, {change("boot_a.img")});
  CHECK(got.find("boot_a.img\" md5=\"" + kNew) != std::string::npos);
  CHECK(got.find("boot_b.img\" md5=\"" + kOld) != std::string::npos);
}

TEST_CASE("relist: sizes are replaced in the record of the file, in the form they have") {
  CHECK(relisted("boot.img 100 x\nother.img 100\n", {"other.img"}) ==
        "boot.img 250 x\nother.img 100\n");
  CHECK(relisted("boot.img,0x64") == "boot.img,0xfa");
  CHECK(relisted("<file name=\"boot.img\" size=\"100\" start=\"100\"/>\n<file name=\"x\" "
                 "size=\"100\"/>") ==
        "<file name=\"boot.img\" size=\"250\" start=\"250\"/>\n<file name=\"x\" size=\"100\"/>");
  CHECK(relisted("<p><file>\n<name>boot.img</name>\n<bytes>100</bytes></file><file><name>b</name>"
                 "<bytes>100</bytes></file></p>") ==
        "<p><file>\n<name>boot.img</name>\n<bytes>250</bytes></file><file><name>b</name>"
        "<bytes>100</bytes></file></p>");
  CHECK(
      relisted(
          "- partition: boot\n  file: boot.img\n  size: 100\n\n- file: other.img\n  size: 100\n") ==
      "- partition: boot\n  file: boot.img\n  size: 250\n\n- file: other.img\n  size: 100\n");
}

TEST_CASE("relist: names that only begin or end alike are other files") {
  const std::string text = "my-boot.img 100\nboot.img.2 100\n";
  CHECK(relisted(text) == text);
}

TEST_CASE("relist: broken XML, and texts that name nothing, stay as they are") {
  for (const std::string text : {"<", "<a", "<a><b></a>", "</a>", "<!-- boot.img",
                                 "<a>boot.img</a></a>", "", "\n\n", "boot.img"})
    CHECK(relisted(text) == text);
}

TEST_CASE("relist: which digests a text may hold is told by its words") {
  CHECK(digest_kinds_in("nothing here 12345").empty());
  CHECK(digest_kinds_in(kOld + " " + std::string(64, 'a')) ==
        std::vector<DigestKind>{DigestKind::Md5, DigestKind::Sha256});
  CHECK(digest_kinds_in(std::string(40, 'B')) == std::vector<DigestKind>{DigestKind::Sha1});
  CHECK(digest_kinds_in(std::string(32, 'a') + "g").empty());
  CHECK(digest_kinds_in("g" + std::string(32, 'a')).empty());
}

TEST_CASE("relist: a file before and after: both sizes, both digests") {
  const auto source = [](const std::string& bytes) { return open_memory(blob(bytes), "x"); };
  const FileChange got =
      value_of(compare_files("a", *source("old"), *source("longer"), {DigestKind::Sha256}, {}));
  CHECK(got.old_size == 3);
  CHECK(got.new_size == 6);
  CHECK(got.digests == std::vector<std::pair<std::string, std::string>>{
                           {hex_of(sha256("old")), hex_of(sha256("longer"))}});
}
