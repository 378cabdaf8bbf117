#include "ramdisk/ramdisk.hpp"

#include <set>

#include "base/memory.hpp"
#include "support/boot.hpp"
#include "support/check.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

Ramdisk parsed(const std::string& bytes) {
  auto ramdisk = parse_ramdisk(blob(bytes));
  REQUIRE(ramdisk);
  return std::move(*ramdisk);
}

std::string content(const Ramdisk& ramdisk, const std::string& place) {
  const auto at = find_entry(ramdisk, place);
  REQUIRE(at);
  return text(content_of(ramdisk, *at).view());
}

}  // namespace

TEST_CASE("ramdisk: identity over compressions, joined streams, padding and tails") {
  const std::string one = first_ramdisk();
  const std::string two = CpioBytes{}.file("second", "2").done();
  const std::string samples[] = {one,
                                 test::gzip(one),
                                 test::lz4_legacy(one),
                                 test::lz4_legacy(one, true),
                                 test::xz(one),
                                 test::bzip2(one),
                                 one + two,
                                 test::gzip(one) + test::gzip(two),
                                 padded(test::gzip(one), 512) + two,
                                 one + test::gzip(two),
                                 test::gzip(one) + std::string(100, '\0') + "trailing words",
                                 test::gzip(one + "behind the archive"),
                                 test::lz4_legacy(one) + std::string(64, '\0')};
  for (const std::string& sample : samples) {
    const Ramdisk ramdisk = parsed(sample);
    check_same(*encode_ramdisk(ramdisk), as_view(sample));
    CHECK(find_entry(ramdisk, "init"));
  }
}

TEST_CASE("ramdisk: of entries in the same place, the last one counts") {
  const Ramdisk ramdisk = parsed(test::gzip(CpioBytes{}.file("init", "one").done()) +
                                 test::gzip(CpioBytes{}.file("./init", "two").done()));
  CHECK(ramdisk.segments.size() == 2);
  CHECK(content(ramdisk, "init") == "two");
}

TEST_CASE("ramdisk: unknown and unsupported forms are told apart") {
  CHECK(parse_ramdisk(blob("no ramdisk")).error().code == ErrorCode::BadMagic);
  CHECK(parse_ramdisk(blob("")).error().code == ErrorCode::BadMagic);
  CHECK(parse_ramdisk(blob("\x89LZO rest")).error().code == ErrorCode::Unsupported);
}

TEST_CASE("ramdisk: a damaged archive inside a stream says where both are") {
  const auto bad = parse_ramdisk(blob(test::gzip("this is no archive")));
  REQUIRE_FALSE(bad);
  CHECK(bad.error().message.find("inside the gzip stream at 0x0") != std::string::npos);
}

TEST_CASE("ramdisk: a bomb is refused by its limit") {
  const std::string bomb =
      test::gzip(CpioBytes{}.file("zeros", std::string(3u << 20, '\0')).done());
  CHECK(parse_ramdisk(blob(bomb), {.bytes = 1u << 20}).error().code == ErrorCode::LimitExceeded);
  CHECK(parse_ramdisk(blob(bomb), {.bytes = 8u << 20}));
}

TEST_CASE("ramdisk: a touched stream is compressed in its own format, others keep their bytes") {
  const std::string first = test::gzip(first_ramdisk(), 1);
  const std::string second = test::gzip(CpioBytes{}.file("x", "1").done());
  Ramdisk ramdisk = parsed(first + second);
  edit_entry(ramdisk, *find_entry(ramdisk, "x")).set_data(blob("changed"));
  const Bytes out = *encode_ramdisk(ramdisk);
  check_same(View(out).first(first.size()), as_view(first));
  const Ramdisk again = parsed(text(out));
  CHECK(content(again, "x") == "changed");
  CHECK(again.compression() == Compression::Gzip);
}

TEST_CASE("ramdisk: an added entry goes before the trailer, with its folders, time and case") {
  const std::string stock = CpioBytes{}
                                .entry("init", "x", 0100750, 0xabc, 1, 0, 0, 0x5e0be100, 0, 0, true)
                                .entry("TRAILER!!!", "", 0, 0, 1, 0, 0, 0, 0, 0, true)
                                .raw();
  Ramdisk ramdisk = parsed(stock);
  const auto made =
      add_entry(ramdisk, newc::Entry::make("a/b/c", newc::Regular | 0600, blob("new")));
  REQUIRE(made);
  CHECK(*made == std::vector<std::string>{"a", "a/b", "a/b/c"});
  const auto& entries = ramdisk.segments[0].archive.entries;
  REQUIRE(entries.size() == 5);
  CHECK(entries[1].name() == "a");
  CHECK(entries[1].mode() == 0040755);
  CHECK(entries[3].get(newc::Field::Ino) == 0xabc + 3);
  CHECK(entries[3].get(newc::Field::Mtime) == 0x5e0be100);
  CHECK(entries[3].upper_case());
  CHECK(entries[4].is_trailer());
  CHECK(check_places(ramdisk));
  CHECK_FALSE(add_entry(ramdisk, newc::Entry::make("init/x", newc::Regular, {})));
}

TEST_CASE("ramdisk: hard links share their data, and one can be changed alone") {
  const std::string stock = CpioBytes{}
                                .entry("a", "", 0100644, 77, 3)
                                .entry("b", "", 0100644, 77, 3)
                                .entry("c", "shared", 0100644, 77, 3)
                                .done();
  Ramdisk ramdisk = parsed(stock);
  CHECK(content(ramdisk, "a") == "shared");
  detach_links(ramdisk, *find_entry(ramdisk, "c"));
  edit_entry(ramdisk, *find_entry(ramdisk, "c")).set_data(blob("own"));
  CHECK(content(ramdisk, "a") == "shared");
  CHECK(content(ramdisk, "b") == "shared");
  CHECK(content(ramdisk, "c") == "own");
  const auto link = entry_at(ramdisk, *find_entry(ramdisk, "a"));
  CHECK(link.get(newc::Field::Nlink) == 2);
  CHECK(entry_at(ramdisk, *find_entry(ramdisk, "c")).get(newc::Field::Nlink) == 1);
  CHECK(entry_at(ramdisk, *find_entry(ramdisk, "c")).get(newc::Field::Ino) != 77);
}

TEST_CASE("ramdisk: names that climb out or go through a link are refused, others are not") {
  const auto check = [](CpioBytes cpio) { return check_places(parsed(cpio.done())); };
  CHECK(check(CpioBytes{}.file("../x", "1")).error().code == ErrorCode::UnsafePath);
  CHECK(check(CpioBytes{}.file("a/../../x", "1")).error().code == ErrorCode::UnsafePath);
  CHECK(check(CpioBytes{}.link("etc", "/etc").file("etc/passwd", "1")).error().code ==
        ErrorCode::UnsafePath);
  CHECK(check(CpioBytes{}.link("./etc", "/etc").file("/etc/passwd", "1")).error().code ==
        ErrorCode::UnsafePath);
  CHECK(check(CpioBytes{}.file("/abs", "1").file("./dot", "2").file("..hidden", "3")));
  // A folder that takes the link's place is a folder again.
  CHECK(check(CpioBytes{}.link("etc", "/etc").folder("etc").file("etc/x", "1")));
}

TEST_CASE("ramdisk: a plain archive behind a changed one begins at a multiple of 4") {
  const std::string plain = CpioBytes{}.file("second", "2").done();
  std::set<std::size_t> sizes;
  for (std::uint32_t size = 1; size <= 24; ++size) {
    CAPTURE(size);
    const std::string first = padded(test::gzip(CpioBytes{}.file("first", "1").done()), 4);
    Ramdisk ramdisk = parsed(first + plain);
    REQUIRE(ramdisk.segments.size() == 2);
    edit_entry(ramdisk, *find_entry(ramdisk, "first")).set_data(blob(noise(size, size)));
    const Bytes out = value_of(encode_ramdisk(ramdisk));
    const std::size_t at = text(out).find("070701");
    REQUIRE(at != std::string::npos);
    CHECK(at % 4 == 0);
    const Ramdisk again = parsed(text(out));
    CHECK(content(again, "second") == "2");
    CHECK(content(again, "first") == noise(size, size));
    sizes.insert(again.segments[0].encoded.size() % 4);
  }
  CHECK(sizes.size() == 4);  // streams of any size were among them
}

TEST_CASE("ramdisk: joined streams are bounded together") {
  const auto stream = [](const char* name) {
    return test::gzip(CpioBytes{}.file(name, std::string(3u << 20, 'x')).done());
  };
  const std::string both = stream("one") + stream("two");
  const auto within = [&](std::uint64_t bound) {
    return parse_ramdisk(blob(both), {.held = std::make_shared<HeldBytes>(bound)});
  };
  const auto refused = within(5u << 20);
  REQUIRE_FALSE(refused);
  CHECK(refused.error().code == ErrorCode::LimitExceeded);
  const auto taken = within(16u << 20);
  REQUIRE(taken);
  CHECK(taken->segments.size() == 2);
}

TEST_CASE("ramdisk: behind a good stream, bytes that only look like another are carried") {
  const std::string packed = test::gzip(CpioBytes{}.file("init", "x").done());
  const std::string behind = std::string("\x1f\x8b\x08", 3) + std::string(60, '\xff');
  const auto ramdisk = parse_ramdisk(blob(packed + behind));
  REQUIRE(ramdisk);
  CHECK(ramdisk->segments.size() == 1);
  CHECK(text(ramdisk->tail.view()) == behind);
  CHECK_FALSE(parse_ramdisk(blob(behind)));
}
