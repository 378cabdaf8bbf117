#include "archive/newc.hpp"

#include "support/bytes.hpp"
#include "support/check.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

std::string rich() {
  return CpioBytes{}
      .folder("dev")
      .device("dev/null", 1, 3)
      .entry("init", "program", 0106755, 0, 1, 1000, 2000, 0x5f000000)
      .link("etc", "/system/etc")
      .entry("a", "", 0100644, 77, 2)
      .entry("b", "shared", 0100644, 77, 2, 0, 0, 0, 0, 0, true)
      .file("name with blanks \xff", "x")
      .file("empty", "")
      .done();
}

}  // namespace

TEST_CASE("newc: every field of every entry is read") {
  const auto archive = newc::parse(blob(rich()));
  REQUIRE(archive);
  REQUIRE(archive->entries.size() == 9);
  const newc::Entry& init = archive->entries[2];
  CHECK(init.name() == "init");
  CHECK(init.mode() == 0106755);
  CHECK(init.type() == newc::Regular);
  CHECK(init.get(newc::Field::Uid) == 1000);
  CHECK(init.get(newc::Field::Gid) == 2000);
  CHECK(init.get(newc::Field::Mtime) == 0x5f000000);
  CHECK(text(init.data().view()) == "program");
  CHECK(archive->entries[1].get(newc::Field::RdevMajor) == 1);
  CHECK(archive->entries[1].get(newc::Field::RdevMinor) == 3);
  CHECK(archive->entries[5].upper_case());
  CHECK(archive->entries[8].is_trailer());
}

TEST_CASE("newc: identity, whatever the padding, the case and the order") {
  const std::string two = CpioBytes{}.file("z", "1").trailer().zeros(300).raw();
  const std::string samples[] = {
      rich(),
      CpioBytes{}.file("no trailer", "x").raw(),
      padded(two, 4) + CpioBytes{}.file("second", "2").done(),
      CpioBytes{}.trailer().raw(),
      rich() + "not an archive",
      rich() + std::string(1000, '\0') + "tail",
  };
  for (const std::string& sample : samples) {
    const auto archive = newc::parse(blob(sample));
    REQUIRE(archive);
    check_same(newc::write(*archive), as_view(sample));
  }
}

TEST_CASE("newc: names longer than their text and padding that is not zero are kept") {
  std::string odd = CpioBytes{}.file("abc", "data!").raw();
  odd[94 + 7] = '7';           // namesize 4 -> 7: three bytes more
  odd.insert(114, "\0xy", 3);  // what stands behind the NUL
  odd = odd.substr(0, 117) + "PAD" + odd.substr(odd.find("data!"));  // 117 + 3 = 120
  odd += CpioBytes{}.trailer().raw();
  const auto archive = newc::parse(blob(odd));
  REQUIRE(archive);
  CHECK(archive->entries[0].name() == "abc");
  check_same(newc::write(*archive), as_view(odd));
}

TEST_CASE("newc: every prefix is refused or read, and what is read is given back") {
  const std::string whole = rich();
  for (std::size_t size = 0; size < whole.size(); ++size) {
    const std::string part = whole.substr(0, size);
    const auto archive = newc::parse(blob(part));
    if (archive) check_same(newc::write(*archive), as_view(part));
  }
}

TEST_CASE("newc: truncation is named by part and offset") {
  const std::string one = CpioBytes{}.file("name", "content").raw();
  const auto at = [&](std::size_t size) { return newc::parse(blob(one.substr(0, size))).error(); };
  CHECK(at(50).message.find("header") != std::string::npos);
  CHECK(at(112).message.find("name") != std::string::npos);
  CHECK(at(118).message.find("data") != std::string::npos);
  CHECK(at(118).code == ErrorCode::Truncated);
  CHECK(at(118).offset == 116);
}

TEST_CASE("newc: wrong magic, fields that are no hex, names of impossible length") {
  std::string bad = rich();
  bad.replace(0, 6, "070707");
  CHECK(newc::parse(blob(bad)).error().code == ErrorCode::BadMagic);
  bad = rich();
  bad[14] = 'g';  // mode
  const auto error = newc::parse(blob(bad)).error();
  CHECK(error.code == ErrorCode::BadValue);
  CHECK(error.offset == 14);
  CHECK(error.message.find("mode") != std::string::npos);
  for (const char* size : {"00000000", "00001001", "ffffffff"}) {
    bad = rich();
    bad.replace(94, 8, size);
    const auto refused = newc::parse(blob(bad));
    REQUIRE_FALSE(refused);
    CHECK(refused.error().offset == 94);
  }
}

TEST_CASE("newc: a file of 4 GiB that is not there is refused, not allocated") {
  std::string bad = rich();
  bad.replace(54, 8, "ffffffff");
  CHECK(newc::parse(blob(bad)).error().code == ErrorCode::Truncated);
}

TEST_CASE("newc: garbage between entries is an error, behind the trailer it is carried") {
  const std::string first = CpioBytes{}.file("a", "1").raw();
  CHECK_FALSE(newc::parse(blob(first + "junk" + rich())));
  const auto carried = newc::parse(blob(rich() + "junk"));
  REQUIRE(carried);
  CHECK(text(carried->tail.view()) == "junk");
}

TEST_CASE("newc: an edited field leaves all other bytes alone") {
  auto archive = newc::parse(blob(rich()));
  archive->entries[2].set(newc::Field::Mode, 0100700);
  std::string wanted = rich();
  const std::size_t at = wanted.find("init") - 110 + 14;
  wanted.replace(at, 8, "000081c0");
  check_same(newc::write(*archive), as_view(wanted));
}

TEST_CASE("newc: new entries are laid out as the format says") {
  newc::Archive archive;
  archive.entries.push_back(newc::Entry::make("hello", newc::Regular | 0640, blob("world")));
  const std::string wanted = CpioBytes{}.entry("hello", "world", 0100640, 1, 1).raw();
  archive.entries[0].set(newc::Field::Ino, 1);
  check_same(newc::write(archive), as_view(wanted));
  const auto upper = newc::Entry::make("x", newc::Regular | 0755, blob(std::string(10, 'x')), true);
  CHECK(upper.get(newc::Field::FileSize) == 10);
  CHECK(upper.upper_case());
}

TEST_CASE("newc: the checksum of a 070702 entry follows its data") {
  std::string summed = CpioBytes{}.file("a", "abc").done();
  summed[5] = '2';
  auto archive = newc::parse(blob(summed));
  REQUIRE(archive);
  archive->entries[0].set_data(blob("\x01\x02\xff"));
  CHECK(archive->entries[0].get(newc::Field::Check) == 0x102);
}

TEST_CASE("newc: places are told as a kernel does") {
  CHECK(newc::place_of("./init") == "init");
  CHECK(newc::place_of("/init") == "init");
  CHECK(newc::place_of("a//b/./c/") == "a/b/c");
  CHECK(newc::place_of(".") == "");
  CHECK(newc::place_of("../x") == "../x");
}

TEST_CASE("newc: a name of the longest length is read, one byte more is refused") {
  const std::string longest(4095, 'n');  // and its NUL
  const auto archive = newc::parse(blob(CpioBytes{}.file(longest, "x").done()));
  REQUIRE(archive);
  CHECK(archive->entries[0].name() == longest);
  CHECK_FALSE(newc::parse(blob(CpioBytes{}.file(longest + "n", "x").done())));
}

TEST_CASE("newc: an entry at a place that is no multiple of 4 is none: a kernel does not find it") {
  const std::string first = CpioBytes{}.file("a", "1").trailer().raw();
  REQUIRE(first.size() % 4 == 0);
  for (std::size_t zeros = 0; zeros < 9; ++zeros) {
    CAPTURE(zeros);
    const std::string bytes = first + std::string(zeros, '\0') + CpioBytes{}.file("b", "2").done();
    const auto archive = newc::parse(blob(bytes));
    REQUIRE(archive);
    CHECK(archive->entries.size() == (zeros % 4 == 0 ? 4 : 2));
    check_same(newc::write(*archive), as_view(bytes));
  }
}

TEST_CASE("newc: a new folder has two links, a link of a summed archive has no sum") {
  CHECK(newc::Entry::make("d", newc::Directory | 0755, {}).get(newc::Field::Nlink) == 2);
  CHECK(newc::Entry::make("f", newc::Regular | 0644, {}).get(newc::Field::Nlink) == 1);
  std::string summed = CpioBytes{}.link("a", "to").link("b", "to").done();
  summed[5] = '2';
  const std::size_t second = summed.find("070701", 6);
  summed[second + 5] = '2';
  summed.replace(second + 102, 8, "000000e3");  // this writer gives links a sum
  auto archive = newc::parse(blob(summed));
  REQUIRE(archive);
  archive->entries[0].set_data(blob("other"));
  archive->entries[1].set_data(blob("other"));
  CHECK(archive->entries[0].get(newc::Field::Check) == 0);
  CHECK(archive->entries[1].get(newc::Field::Check) == 'o' + 't' + 'h' + 'e' + 'r');
}

TEST_CASE("newc: where others are in capitals, so is what is set in an entry of digits alone") {
  CpioBytes bytes;
  bytes.entry("letters", "", 0100644, 0xabc, 1, 0, 0, 0, 0, 0, true);
  bytes.entry("digits", "", 0100000, 1, 1);  // 00008000: no letter
  auto archive = newc::parse(blob(bytes.raw()));
  REQUIRE(archive);
  archive->entries[1].set(newc::Field::Ino, 0xabcd);
  const Bytes out = newc::write(*archive);
  CHECK(text(out).contains("0000ABCD"));
  CHECK_FALSE(text(out).contains("0000abcd"));
}
