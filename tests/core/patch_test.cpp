#include "recipe/patch.hpp"

#include "base/digest.hpp"
#include "core/patch_bench.hpp"
#include "image/boot.hpp"
#include "image/fragments.hpp"
#include "recipe/journal.hpp"
#include "verified/vbmeta.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

/// Every layout, with and without footer and padding.
std::vector<std::string> stock_images() {
  std::vector<std::string> out;
  const std::string archive = first_ramdisk();
  for (const std::string& ramdisk :
       {archive, test::gzip(archive), test::lz4_legacy(archive), test::lz4_legacy(archive, true),
        test::xz(archive), test::gzip(archive) + test::gzip(archive)}) {
    BootBytes v2{.version = 2, .page = 2048, .kernel = noise(5000), .ramdisk = ramdisk};
    v2.dtb = noise(3000);
    v2.recovery_dtbo = noise(100);
    BootBytes v4{.kernel = noise(5000), .ramdisk = ramdisk};
    BootBytes init_boot{.ramdisk = ramdisk};
    VendorBootBytes vendor{.ramdisk = ramdisk, .dtb = noise(400), .bootconfig = "a=b\n"};
    out.push_back(v2.done() + std::string(100000, '\0'));
    out.push_back(v4.done() + noise(40));
    out.push_back(with_footer(init_boot.done(), "init_boot", 1u << 17));
    out.push_back(vendor.done());
    out.push_back(with_footer(v4.done() + noise(100) + std::string(9000, '\0'), "boot", 1u << 17));
  }
  return out;
}

}  // namespace

TEST_CASE("patch: the edits are done, the stock file is kept as it was") {
  const Patched done =
      patch(BootBytes{.ramdisk = test::gzip(first_ramdisk())}.done(), recipe(kAddOn));
  CHECK(done.changed);
  const Ramdisk ramdisk = ramdisk_of(done.bytes);
  CHECK(at(ramdisk, "init") == "the add-on");
  CHECK(at(ramdisk, "wexlo/stock/init") ==
        "\x7f"
        "ELF the stock init");
  CHECK(at(ramdisk, "system/etc/build.prop") == "ro.debuggable=1\nro.korvale=1\nro.added=yes\n");
  CHECK(at(ramdisk, "fstab.vernier").find("/system ext4 ro wait,first_stage_mount\n") !=
        std::string::npos);
  CHECK(at(ramdisk, "fstab.vernier").find("/vendor ext4 ro wait,avb\n") != std::string::npos);
  const newc::Entry& kept = entry_at(ramdisk, *find_entry(ramdisk, "wexlo/stock/init"));
  CHECK(kept.mode() == 0100750);
  CHECK(kept.get(newc::Field::Gid) == 2000);
  CHECK(kept.get(newc::Field::Mtime) == 1230768000);
  const newc::Entry& init = entry_at(ramdisk, *find_entry(ramdisk, "init"));
  CHECK(init.mode() == 0100755);
  CHECK(init.get(newc::Field::Gid) == 2000);
  for (const EditReport& edit : done.edits)
    CHECK(edit.outcome == Outcome::Applied);
}

TEST_CASE("patch: twice is once, over all layouts") {
  const auto recipes = recipe(kAddOn);
  for (const std::string& stock : stock_images()) {
    const Patched once = patch(stock, recipes);
    CHECK(once.changed);
    const Patched twice = patch(text(once.bytes), recipes);
    CHECK_FALSE(twice.changed);
    CHECK(twice.ranges.empty());
    check_same(twice.bytes, once.bytes);
    for (const EditReport& edit : twice.edits)
      CHECK(edit.outcome == Outcome::AlreadyDone);
    check_same(patch(stock, recipes).bytes, once.bytes);  // same in, same out
  }
}

TEST_CASE("patch: every byte that differs lies in a range that says why") {
  for (const std::string& stock : stock_images()) {
    const Patched done = patch(stock, recipe(kAddOn));
    Bytes covered = to_bytes(done.bytes);
    for (const ChangedRange& range : done.ranges) {
      CHECK_FALSE(range.region.empty());
      CHECK_FALSE(range.cause.empty());
      for (std::uint64_t i = range.offset; i < range.offset + range.size; ++i)
        covered[i] = i < stock.size() ? static_cast<std::byte>(stock[i]) : std::byte{0};
    }
    const std::size_t common = std::min(covered.size(), stock.size());
    check_same(View(covered).first(common), as_view(stock).first(common));
  }
}

TEST_CASE("patch: footers and ids match the new content") {
  for (const std::string& stock : stock_images()) {
    const Patched done = patch(stock, recipe(kAddOn));
    const auto image = load(text(done.bytes));
    CHECK(verified::own_digest_matches(done.bytes)->value_or(true));
    CHECK(boot::id_matches(*image.image).value_or(true));
  }
}

TEST_CASE(
    "patch: another version of the add-on replaces the first, the stock file stays the stock one") {
  const std::string stock = BootBytes{.ramdisk = first_ramdisk()}.done();
  const Patched first = patch(stock, recipe(kAddOn, "version 1"));
  const Patched second = patch(text(first.bytes), recipe(kAddOn, "version 2"));
  CHECK(second.changed);
  const Ramdisk ramdisk = ramdisk_of(second.bytes);
  CHECK(at(ramdisk, "init") == "version 2");
  CHECK(at(ramdisk, "wexlo/stock/init") ==
        "\x7f"
        "ELF the stock init");
  const auto journal = read_journal(ramdisk);
  REQUIRE(journal);
  CHECK((*journal)->stock_sha256 == hex_of(sha256(stock)));
  CHECK((*journal)->edits.size() == 4);
}

TEST_CASE("patch: a linked init (recovery in boot) is replaced by a file and kept as a link") {
  const std::string ramdisk = CpioBytes{}.link("init", "/system/bin/init").done();
  const Patched done = patch(BootBytes{.ramdisk = ramdisk}.done(), recipe(R"(
format = 1
name = "x"
[[edit]]
kind = "put"
path = "/init"
from = "hello"
mode = 0o750
keep_stock = true
)"));
  const Ramdisk after = ramdisk_of(done.bytes);
  CHECK(entry_at(after, *find_entry(after, "init")).mode() == 0100750);
  const newc::Entry& kept = entry_at(after, *find_entry(after, "wexlo/stock/init"));
  CHECK(kept.type() == newc::Symlink);
  CHECK(text(kept.data().view()) == "/system/bin/init");
}

TEST_CASE("patch: a file that was hard-linked is changed alone") {
  const std::string ramdisk = CpioBytes{}
                                  .entry("init", "shared", 0100755, 50, 2)
                                  .entry("sbin-init", "", 0100755, 50, 2)
                                  .done();
  const Patched done = patch(BootBytes{.ramdisk = ramdisk}.done(),
                             recipe("format = 1\nname = \"x\"\n[[edit]]\nkind = \"put\"\n"
                                    "path = \"init\"\nfrom = \"hello\"\n"));
  const Ramdisk after = ramdisk_of(done.bytes);
  CHECK(at(after, "init") == "the add-on");
  CHECK(at(after, "sbin-init") == "shared");
}

TEST_CASE("patch: vbmeta flags change four bytes, and clear again") {
  const std::string stock =
      vbmeta(test::property_descriptor("a", "b"), 0, 1) + std::string(500, '\0');
  const auto set = recipe(
      "format = 1\nname = \"x\"\n[[edit]]\nkind = \"vbmeta-flags\"\n"
      "set = [\"hashtree-disabled\", \"verification-disabled\"]\n");
  const Patched done = patch(stock, set);
  std::string wanted = stock;
  wanted[123] = 3;
  check_same(done.bytes, as_view(wanted));
  REQUIRE(done.ranges.size() == 1);
  CHECK(done.ranges[0].region == "header field flags");
  CHECK(done.notes.size() == 1);
  CHECK_FALSE(patch(text(done.bytes), set).changed);
  const auto clear = recipe(
      "format = 1\nname = \"y\"\n[[edit]]\nkind = \"vbmeta-flags\"\n"
      "clear = [\"hashtree-disabled\", \"verification-disabled\"]\n");
  check_same(patch(text(done.bytes), clear).bytes, as_view(stock));
}

TEST_CASE("patch: an edit that matches nothing is told, and is no error where it may miss") {
  const auto reports = [](const std::string& edit) {
    std::vector<std::vector<EditReport>> out;
    out.push_back(patch(BootBytes{.ramdisk = first_ramdisk()}.done(),
                        recipe("format = 1\nname = \"x\"\n[[edit]]\n" + edit))
                      .edits);
    return out;
  };
  const std::string drop = "kind = \"fstab-drop\"\nmount_point = \"/none\"\nflags = [\"avb\"]\n";
  CHECK(check_matches(reports(drop)).error().code == ErrorCode::NoMatch);
  CHECK(check_matches(reports(drop + "may_miss = true\n")));
  CHECK_FALSE(check_matches(
      reports("kind = \"property\"\nfile = \"none.prop\"\nset = { \"a\" = \"b\" }\n")));
  // An edit for another kind of image concerns nobody here.
  CHECK_FALSE(check_matches(reports("kind = \"vbmeta-flags\"\nset = [\"hashtree-disabled\"]\n")));
}

TEST_CASE("patch: one that no longer fits is refused by how many bytes") {
  const std::string stock =
      with_footer(BootBytes{.ramdisk = first_ramdisk()}.done(), "boot", 32768);
  const auto refused = patch_image(load(stock), {"boot", true}, recipe(kAddOn, noise(40000)));
  REQUIRE_FALSE(refused);
  CHECK(refused.error().code == ErrorCode::DoesNotFit);
}

TEST_CASE("patch: an image whose own struct covers others, too, leaves their digests alone") {
  const std::string image =
      BootBytes{.kernel = noise(5000), .ramdisk = test::gzip(first_ramdisk())}.done();
  const std::string dtbo = hash_descriptor("dtbo", "the table", "its salt"),
                    system = hashtree_descriptor("system");
  const std::string stock = top_level(image, dtbo + system, 1u << 17);
  const std::string done = text(patch(stock, recipe(kAddOn)).bytes);
  CHECK(done.find(dtbo) != done.npos);
  CHECK(done.find(system) != done.npos);
  CHECK(done.find(hash_descriptor("boot", image, "salt")) == done.npos);
  const auto again = load(done);
  const auto footer = value_of(verified::find_footer(again.bytes.view()));
  REQUIRE(footer);
  CHECK(done.find(hash_descriptor("boot", done.substr(0, footer->original_image_size), "salt")) !=
        done.npos);
}

TEST_CASE(
    "patch: of several fragments each fstab is edited, and new files go where every start looks") {
  VendorBootBytes v{.dtb = noise(90), .bootconfig = "a=b\n"};
  v.named = {{"rec", 2, test::gzip(first_ramdisk())},
             {"", 1, test::lz4_legacy(first_ramdisk())},
             {"mods", 3, test::gzip(CpioBytes{}.file("modules.load", "a.ko\n").done())}};
  const std::string stock = v.done();
  const auto both = recipe(R"(
format = 1
name = "both"
[[edit]]
kind = "fstab-drop"
mount_point = "*"
flags = ["avb"]
[[edit]]
kind = "put"
path = "added"
from = "hello"
)");
  const Patched done = patch(stock, both);
  CHECK(done.edits[0].details.size() == 4);  // two mount points in two fragments
  const auto image = load(text(done.bytes));
  const auto parts = boot::ramdisk_parts(*image.image);
  REQUIRE(parts.size() == 3);
  for (const std::size_t i : {0u, 1u}) {
    const Ramdisk ramdisk = *parse_ramdisk(parts[i].bytes);
    CHECK(at(ramdisk, "fstab.vernier").find("avb") == std::string::npos);
    CHECK(find_entry(ramdisk, "added").has_value() == (i == 1));
    CHECK(find_entry(ramdisk, "wexlo/journal.toml").has_value() == (i == 1));
  }
  CHECK(text(parts[2].bytes) == v.named[2].bytes);
  CHECK(equal(patch(text(done.bytes), both).bytes, done.bytes));
}

TEST_CASE("patch: an edit's API levels hold at their edges, and an unknown level is none of them") {
  const auto recipes = recipe(
      "format = 1\nname = \"levels\"\n[[edit]]\nkind = \"put\"\npath = \"added\"\nfrom = "
      "\"hello\"\nmay_miss = true\nwhen = { sdk_at_least = 33, sdk_at_most = 35 }\n");
  const std::string stock = BootBytes{.version = 4, .ramdisk = first_ramdisk()}.done();
  for (const auto& [sdk, done] :
       {std::pair{0, false}, {32, false}, {33, true}, {34, true}, {35, true}, {36, false}}) {
    CAPTURE(sdk);
    PatchRole role{"boot", true};
    if (sdk != 0) role.phone.sdk = static_cast<std::uint32_t>(sdk);
    const Patched patched = value_of(patch_image(load(stock), role, recipes));
    CHECK((at(ramdisk_of(patched.bytes.view()), "added") == "the add-on") == done);
  }
}

TEST_CASE(
    "patch: behind a first fragment of modules, new files and the journal go to the platform's") {
  const auto recipes = recipe(
      "format = 1\nname = \"vendor\"\n[[edit]]\nkind = \"put\"\npath = \"added\"\nfrom = "
      "\"hello\"\nramdisk = \"vendor\"\n");
  VendorBootBytes vendor{.version = 4, .dtb = device_tree("Tarn 3", "korvale,gnomon")};
  vendor.named = {
      {"modules", 3, lz4_legacy(CpioBytes{}.file("lib/modules/x.ko", "m").done())},
      {"", 1, lz4_legacy(CpioBytes{}.file("first_stage_ramdisk/fstab.gnomon", "f").done())}};
  const Patched patched =
      value_of(patch_image(load(vendor.done()), {"vendor_boot", true}, recipes));
  const auto image = load(text(patched.bytes.view()));
  const auto parts = boot::ramdisk_parts(*image.image);
  REQUIRE(parts.size() == 2);
  const Ramdisk modules = value_of(parse_ramdisk(parts[0].bytes)),
                platform = value_of(parse_ramdisk(parts[1].bytes));
  CHECK(at(platform, "added") == "the add-on");
  CHECK(at(platform, std::string(kJournalPlace)) != "(none)");
  CHECK(at(modules, "added") == "(none)");
  CHECK(at(modules, std::string(kJournalPlace)) == "(none)");
}

TEST_CASE("patch: a file in a link's place has a file's mode, one in a file's place its mode") {
  const std::string ramdisk = CpioBytes{}
                                  .link("linked", "/system/bin/x")
                                  .file("plain", "stock", 0100751)
                                  .file("init", "x")
                                  .done();
  const auto edit = [](const std::string& path) {
    return "[[edit]]\nkind = \"put\"\npath = \"" + path + "\"\nfrom = \"hello\"\n";
  };
  const Patched done = patch(BootBytes{.ramdisk = ramdisk}.done(),
                             recipe("format = 1\nname = \"x\"\n" + edit("linked") + edit("plain")));
  const Ramdisk after = ramdisk_of(done.bytes);
  CHECK(entry_at(after, *find_entry(after, "linked")).mode() == 0100644);
  CHECK(entry_at(after, *find_entry(after, "plain")).mode() == 0100751);
}

TEST_CASE("patch: lines at a file's end, and a number of lines that is not there at all") {
  const auto changed = [](const std::string& file, const std::string& edit) {
    const std::string ramdisk = CpioBytes{}.file("init", "x").file("init.rc", file).done();
    return patch_image(load(BootBytes{.ramdisk = ramdisk}.done()), {"boot", true},
                       recipe("format = 1\nname = \"x\"\n[[edit]]\nfile = \"init.rc\"\n" + edit));
  };
  const std::string add = "kind = \"line-add\"\nat = \"end\"\nlines = [\"new\"]\n";
  for (const auto& [before, after] :
       {std::pair{"a\nb\n", "a\nb\nnew\n"}, {"a\nb", "a\nb\nnew\n"}}) {
    const auto done = changed(before, add);
    REQUIRE(done);
    CHECK(at(ramdisk_of(done->bytes), "init.rc") == after);
  }
  const std::string replace =
      "kind = \"line-replace\"\ncontaining = \"a\"\nwith = [\"b\"]\ncount = 2\nmay_miss = true\n";
  CHECK(changed("a\na\n", replace));
  CHECK(changed("a\n", replace).error().code == ErrorCode::BadValue);
  const auto none = changed("c\n", replace);
  REQUIRE(none);
  CHECK(none->edits[0].outcome == Outcome::NoMatch);
}

TEST_CASE("patch: a way back that makes the image much larger is not carried") {
  const auto carried = [](std::size_t size) {
    const std::string stock = BootBytes{.kernel = arm64_kernel("5.10.1") + noise(size),
                                        .ramdisk = test::gzip(first_ramdisk())}
                                  .done();
    const TempDir dir;
    test::write(dir / "part", arm64_kernel("5.10.2") + noise(size, 2));
    test::write(dir / "r.toml",
                "format = 1\nname = \"x\"\n[[edit]]\nkind = \"part\"\nfrom = \"part\"\npart = "
                "\"kernel\"\n");
    const auto done = patch_image(load(stock), {"boot", true},
                                  value_of(load_recipes({(dir / "r.toml").string()}, {})));
    REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
    return done->way_back.in_image;
  };
  CHECK(carried(3u << 20));
  CHECK_FALSE(carried(5u << 20));
}

TEST_CASE("patch: a footer that says less than the sections take belongs to another image") {
  const std::string image =
      BootBytes{.kernel = noise(5000), .ramdisk = test::gzip(first_ramdisk())}.done();
  const auto patched = [&](std::size_t original) {
    std::string out = padded(image, 4096);
    const std::string structure = vbmeta(hash_descriptor("boot", image.substr(0, original), "s"));
    const std::size_t at = out.size();
    out += structure;
    out.resize((1u << 17) - 64);
    out += "AVBf" + be32(1) + be32(0) + be64(original) + be64(at) + be64(structure.size()) +
           std::string(28, '\0');
    return patch_image(load(out), {"boot", true}, recipe(kAddOn));
  };
  REQUIRE(image.size() % 4096 == 0);
  CHECK(patched(image.size()));
  CHECK(patched(image.size() - 4095));  // its last section's padding was not written
  CHECK(patched(image.size() - 4096).error().code == ErrorCode::Unsupported);
}

TEST_CASE("patch: what is behind the sections has to fit to the last byte") {
  const std::string image = BootBytes{.kernel = noise(500), .ramdisk = first_ramdisk()}.done();
  const auto patched = [&](std::size_t padding) {
    return patch_image(load(image + "behind" + std::string(padding, '\0')), {"boot", true},
                       recipe(kAddOn, noise(9000)));
  };
  const auto roomy = patched(1u << 20);
  REQUIRE(roomy);
  const std::size_t grown =
      load(text(roomy->bytes)).image->sections_end() - load(image).image->sections_end();
  REQUIRE(grown > 0);
  const auto fits = patched(grown);
  REQUIRE(fits);
  CHECK(text(fits->bytes).ends_with("behind"));
  CHECK(patched(grown - 1).error().code == ErrorCode::DoesNotFit);
}
