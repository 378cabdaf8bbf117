#include "compare/compare.hpp"

#include <algorithm>

#include "support/boot.hpp"
#include "support/check.hpp"
#include "support/vbmeta.hpp"
#include "text/text_diff.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

ImageComparison compared(const std::string& a, const std::string& b) {
  const auto one = load_image(blob(a), "a"), two = load_image(blob(b), "b");
  REQUIRE(one);
  REQUIRE(two);
  auto out = compare_images(*one, *two, {.jobs = 2});
  REQUIRE(out);
  return std::move(*out);
}

bool has(const ImageComparison& c, const std::string& area, const std::string& what,
         const std::string& where) {
  return std::ranges::any_of(c.differences, [&](const Difference& d) {
    return area_name(d.area) == area && difference_name(d.kind) == what && d.where == where;
  });
}

std::string lines(const std::vector<std::string>& all) {
  std::string out;
  for (const std::string& line : all)
    out += line + "|";
  return out;
}

/// Applies a diff's lines to a text: what it says has to lead there.
std::string applied(const std::string& before, const std::vector<std::string>& diff) {
  std::vector<std::string> old;
  for (std::size_t at = 0; at < before.size();) {
    const std::size_t end = std::min(before.find('\n', at), before.size());
    old.push_back(before.substr(at, end - at));
    at = end + 1;
  }
  std::string out;
  std::size_t next = 0;
  const auto copy_to = [&](std::size_t line) {
    for (; next < line && next < old.size(); ++next)
      out += old[next] + "\n";
  };
  for (const std::string& line : diff) {
    if (line[0] == '@') copy_to(std::stoul(line.substr(2)) - 1);
    if (line[0] == '-') CHECK(old.at(next++) == line.substr(1));
    if (line[0] == '+') out += line.substr(1) + "\n";
  }
  copy_to(old.size());
  return out;
}

}  // namespace

TEST_CASE("diff: what it says leads from one text to the other, by the fewest lines") {
  CHECK(lines(diff_lines("a\nb\nc\n", "a\nx\nc\n")) == "@ 2|-b|+x|");
  CHECK(diff_lines("a\n", "a\n").empty());
  CHECK(lines(diff_lines("", "a\n")) == "@ 1|+a|");
  CHECK(lines(diff_lines("a", "a\n")) == "@ end of file: line ends differ|");
  std::uint32_t state = 7;
  const auto next = [&](std::uint32_t bound) {
    state = state * 1664525 + 1013904223;
    return (state >> 16) % bound;
  };
  for (int round = 0; round < 300; ++round) {
    std::string a, b;
    for (std::uint32_t i = next(12); i > 0; --i)
      a += std::string(1, static_cast<char>('a' + next(4))) + "\n";
    for (std::uint32_t i = next(12); i > 0; --i)
      b += std::string(1, static_cast<char>('a' + next(4))) + "\n";
    CAPTURE(a);
    CAPTURE(b);
    CHECK(applied(a, diff_lines(a, b)) == b);
  }
  // Far apart: replaced as a whole, in bounded time.
  std::string far_a, far_b;
  for (int i = 0; i < 4000; ++i) {
    far_a += "a" + std::to_string(i) + "\n";
    far_b += "b" + std::to_string(i) + "\n";
  }
  CHECK(applied(far_a, diff_lines(far_a, far_b, 100000)) == far_b);
  CHECK(diff_lines(far_a, far_b, 10).back() == "... and 7991 more");
  CHECK_FALSE(looks_like_text(std::string_view("a\0b", 3)));
}

TEST_CASE("compare: header fields, words of the command line, kernel and parts") {
  BootBytes a{.version = 2,
              .page = 2048,
              .kernel = arm64_kernel("6.1.1-korvale"),
              .ramdisk = test::gzip(first_ramdisk()),
              .dtb = device_tree("Korvale", "korvale,x")};
  BootBytes b = a;
  b.cmdline = "console=ttyKV0 androidboot.selinux=permissive";
  b.os_version = 0x2000013a;  // 2019-10
  b.kernel = arm64_kernel("6.1.2-korvale");
  b.dtb = device_tree("Korvale other", "korvale,x");
  const auto c = compared(a.done(), b.done());
  CHECK(has(c, "header", "changed", "patch_level"));
  CHECK(has(c, "cmdline", "added", "androidboot.selinux=permissive"));
  CHECK(has(c, "selinux", "added", "cmdline: androidboot.selinux=permissive"));
  CHECK(has(c, "kernel", "changed", "version"));
  CHECK(has(c, "part", "content", "kernel"));
  CHECK(has(c, "device-tree", "changed", "dtb 0"));
  CHECK_FALSE(has(c, "part", "content", "ramdisk"));
  const std::string meaning = lines(c.meaning);
  CHECK(meaning.find("older") != std::string::npos);
  CHECK(meaning.find("modules of one do not load") != std::string::npos);
}

TEST_CASE("compare: ramdisk entries, with modes, owners, links and text") {
  const auto ramdisk = [](const std::string& prop, unsigned mode, unsigned owner,
                          const std::string& target, const std::string& last) {
    return BootBytes{.ramdisk = test::gzip(CpioBytes{}
                                               .entry("init",
                                                      "\x7f"
                                                      "ELF",
                                                      mode, 0, 1, owner)
                                               .file("default.prop", prop)
                                               .link("etc", target)
                                               .file("sepolicy", prop + "x")
                                               .file(last, "1")
                                               .done())}
        .done();
  };
  const auto c = compared(ramdisk("a=1\nb=2\n", 0100750, 0, "/system/etc", "old"),
                          ramdisk("a=1\nb=3\n", 0100755, 1000, "/etc2", "new"));
  CHECK(has(c, "ramdisk", "mode", "/init"));
  CHECK(has(c, "ramdisk", "owner", "/init"));
  CHECK(has(c, "ramdisk", "link", "/etc"));
  CHECK(has(c, "ramdisk", "removed", "/old"));
  CHECK(has(c, "ramdisk", "added", "/new"));
  CHECK(has(c, "selinux", "content", "/sepolicy"));
  const auto prop = std::ranges::find(c.differences, "/default.prop", &Difference::where);
  REQUIRE(prop != c.differences.end());
  CHECK(lines(prop->lines) == "@ 2|-b=2|+b=3|");
}

TEST_CASE("compare: ranges cover every byte that differs, and end at the parts' borders") {
  const std::string a = BootBytes{.kernel = noise(9000), .ramdisk = noise(5000)}.done();
  std::string b = a;
  for (const std::size_t at : {std::size_t{60}, std::size_t{4096}, std::size_t{4096 + 8999},
                               std::size_t{4096 + 9001}, b.size() - 1})
    b[at] ^= 1;
  const auto c = compared(a, b);
  std::size_t covered = 0;
  for (std::size_t at = 0; at < a.size(); ++at) {
    const auto in = [&](const DifferentRange& r) {
      return at >= r.offset && at < r.offset + r.size;
    };
    if (a[at] != b[at]) CHECK(std::ranges::any_of(c.ranges, in));
    covered += std::ranges::any_of(c.ranges, in) ? 1 : 0;
  }
  CHECK(covered < 4100 + 5);
  CHECK(c.ranges.front().region == "header");
  CHECK(
      std::ranges::any_of(c.ranges, [](const auto& r) { return r.region == "padding of kernel"; }));
  CHECK(compared(a, a + "more").ranges.back().region == "only in the longer image");
}

TEST_CASE("compare: the same content packed otherwise is said to be the same") {
  const auto c = compared(BootBytes{.ramdisk = test::gzip(first_ramdisk(), 1)}.done(),
                          BootBytes{.ramdisk = test::gzip(first_ramdisk(), 9)}.done());
  CHECK(has(c, "part", "content", "ramdisk"));
  CHECK(c.differences.size() == 1);
  CHECK_FALSE(c.ranges.empty());
}

TEST_CASE("compare: vbmeta by field and descriptor; footers alone are said to be that") {
  const std::string image = BootBytes{.ramdisk = noise(500)}.done();
  const auto c = compared(with_footer(image, "boot", 1u << 16), image);
  CHECK(has(c, "vbmeta", "removed", "footer"));
  CHECK(lines(c.meaning).find("What a kernel gets is the same") != std::string::npos);
  const auto flags =
      compared(vbmeta(property_descriptor("a", "b")), vbmeta(property_descriptor("a", "c"), 3));
  CHECK(has(flags, "vbmeta", "changed", "flags"));
  CHECK(has(flags, "vbmeta", "changed", "property a"));
}

TEST_CASE("compare: folders and single images; what has nothing in common is refused") {
  const TempDir dir;
  const std::string boot = BootBytes{.kernel = noise(90)}.done();
  test::write(dir / "a/boot.img", boot);
  test::write(dir / "a/vbmeta.img", padded(vbmeta(""), 4096));
  test::write(dir / "b/boot.img", boot);
  const auto folders = compare(dir / "a", dir / "b", {});
  REQUIRE(folders);
  CHECK_FALSE(folders->same);
  REQUIRE(folders->images.size() == 1);
  CHECK(folders->images[0].partition == "vbmeta");
  CHECK(compare(dir / "a/boot.img", dir / "b", {})->same);
  CHECK(compare(dir / "a/vbmeta.img", dir / "b", {}).error().code == ErrorCode::Unsupported);
  CHECK(compare(dir / "none", dir / "b", {}).error().code == ErrorCode::NotFound);
}

TEST_CASE("compare: an entry of another type, owner or mode is told as that") {
  const auto image = [](CpioBytes ramdisk) {
    return BootBytes{.version = 4, .ramdisk = gzip(ramdisk.done())}.done();
  };
  const ImageComparison seen =
      compared(image(CpioBytes{}.file("x", "y").file("o", "1").file("m", "1")),
               image(CpioBytes{}
                         .link("x", "y")
                         .entry("o", "1", 0100644, 2, 1, 0, 2000)
                         .file("m", "1", 0100755)));
  CHECK(has(seen, "ramdisk", "type", "/x"));
  CHECK(has(seen, "ramdisk", "owner", "/o"));
  CHECK(has(seen, "ramdisk", "mode", "/m"));
  CHECK_FALSE(has(seen, "ramdisk", "content", "/x"));
}
