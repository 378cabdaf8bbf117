#include "recipe/patch.hpp"

#include "base/digest.hpp"
#include "image/boot.hpp"
#include "image/fragments.hpp"
#include "recipe/account.hpp"
#include "recipe/journal.hpp"
#include "support/boot.hpp"
#include "support/check.hpp"
#include "support/vbmeta.hpp"
#include "verified/vbmeta.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

constexpr const char* kAddOn = R"(
format = 1
name = "tests"
[[edit]]
kind = "put"
path = "init"
from = "hello"
mode = 0o755
keep_stock = true
[[edit]]
kind = "property"
file = "system/etc/build.prop"
set = { "ro.debuggable" = "1", "ro.added" = "yes" }
[[edit]]
kind = "fstab-drop"
mount_point = "/system"
flags = ["avb"]
)";

std::vector<Recipe> recipe(const std::string& toml, const std::string& program = "the add-on") {
  const TempDir dir;
  test::write(dir / "recipe.toml", toml);
  test::write(dir / "hello", program);
  auto loaded = load_recipes({(dir / "recipe.toml").string()}, {});
  REQUIRE_MESSAGE(loaded, (loaded ? "" : describe(loaded.error())));
  return std::move(*loaded);
}

LoadedImage load(const std::string& bytes) {
  auto image = load_image(blob(bytes), "test.img");
  REQUIRE(image);
  return std::move(*image);
}

Patched patch(const std::string& image, const std::vector<Recipe>& recipes) {
  auto patched = patch_image(load(image), {"boot", true}, recipes);
  REQUIRE_MESSAGE(patched, (patched ? "" : describe(patched.error())));
  return std::move(*patched);
}

Ramdisk ramdisk_of(View bytes) {
  const auto image = load(text(bytes));
  return *parse_ramdisk(boot::ramdisk_parts(*image.image).front().bytes);
}

std::string at(const Ramdisk& ramdisk, const std::string& place) {
  const auto found = find_entry(ramdisk, place);
  return found ? text(content_of(ramdisk, *found).view()) : "(none)";
}

/// Every layout of this issue, with and without footer and padding.
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

TEST_CASE("patch: footers and ids are true for the new content") {
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

TEST_CASE("account: changes that no edit explains are refused, wherever they are") {
  // Without a footer, whose digest alone would tell each of them.
  const std::string stock = BootBytes{.kernel = noise(5000), .ramdisk = first_ramdisk()}.done() +
                            "left behind" + std::string(9000, '\0');
  const LoadedImage loaded = load(stock);
  const auto judged = [&](const std::string& bytes, const Intent& intent) {
    Patched one{.bytes = blob(bytes)};
    return account(loaded, one, intent, Context{});
  };
  REQUIRE(judged(stock, {}));
  const std::size_t ramdisk = 4096 + 8192, inside = stock.find("the stock init");
  REQUIRE(inside > ramdisk);
  for (const auto& [place, at] : {std::pair<const char*, std::size_t>{"a field", 16},
                                  {"the header's bytes of no field", 2000},
                                  {"the kernel", 4096 + 77},
                                  {"the kernel's padding", 4096 + 5001},
                                  {"a file of the ramdisk", inside},
                                  {"what stands behind", stock.find("left behind")},
                                  {"the file's padding", stock.size() - 100}}) {
    CAPTURE(place);
    std::string bad = stock;
    bad[at] = static_cast<char>(bad[at] ^ 1);
    const auto refused = judged(bad, {});
    REQUIRE_FALSE(refused);
    CHECK(refused.error().code == ErrorCode::Unexplained);
    // Nor is it explained by an edit of something else.
    Intent other;
    other.fields["cmdline"] = "an edit";
    CHECK_FALSE(judged(bad, other));
  }
  std::string field = stock;
  field[16] = static_cast<char>(field[16] ^ 1);
  Intent meant;
  meant.fields["os_version"] = "an edit";
  Patched one{.bytes = blob(field)};
  CHECK(account(loaded, one, meant, {}));
  // The same edits, but for places that were not meant.
  const Patched good = patch(stock, recipe(kAddOn));
  const auto refused = judged(text(good.bytes), {});
  REQUIRE_FALSE(refused);
  CHECK(refused.error().code == ErrorCode::Unexplained);
}

TEST_CASE("account: a section that an edit wrote has just the bytes that it meant") {
  VendorBootBytes bytes{.ramdisk = first_ramdisk(), .dtb = noise(400), .bootconfig = "a=b\n"};
  const LoadedImage loaded = load(bytes.done());
  bytes.bootconfig = "a=c\n";
  const std::string now = bytes.done();
  const auto judged = [&](const std::string& meant) {
    Intent intent;
    intent.sections["bootconfig"] = {hex_of(sha256(meant)), "an edit"};
    Patched one{.bytes = blob(now)};
    return account(loaded, one, intent, Context{}).has_value();
  };
  CHECK(judged("a=c\n"));
  CHECK_FALSE(judged("a=d\n"));
}

TEST_CASE("account: before a kernel only what follows from it may differ") {
  const std::string packed = test::gzip(arm64_kernel("5.10.1"));
  const auto wrapped = [&](std::size_t changed) {
    std::string out = be32(0x27051956) + be32(7) + be32(1) +
                      be32(static_cast<std::uint32_t>(packed.size())) + be32(2) + be32(3) +
                      be32(4) + be32(5) + field("Linux", 32) + packed;
    if (changed != 0) out[changed] = static_cast<char>(out[changed] ^ 1);
    return blob(out);
  };
  const auto judged = [&](std::size_t at) {
    return account_kernel(wrapped(at), wrapped(0), {}, {}).has_value();
  };
  CHECK(judged(0));
  for (const std::size_t at : {5u, 13u, 25u})  // sums and the size
    CHECK(judged(at));
  for (const std::size_t at : {9u, 17u, 21u, 29u, 40u})  // time, addresses, kind, name
    CHECK_FALSE(judged(at));
}

namespace {

/// An image whose own struct speaks of others, too, as one without a vbmeta partition does.
std::string top_level(const std::string& image, const std::string& others, std::size_t size) {
  std::string out = padded(image, 4096);
  const std::string structure =
      vbmeta(hash_descriptor("boot", image, "salt") + others + property_descriptor("a.b", "c"));
  const std::size_t at = out.size();
  out += structure;
  out.resize(size - 64);
  return out + "AVBf" + be32(1) + be32(0) + be64(image.size()) + be64(at) + be64(structure.size()) +
         std::string(28, '\0');
}

}  // namespace

TEST_CASE("patch: an image whose own struct vouches for others, too, leaves their digests alone") {
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

TEST_CASE("account: a footer's fields and every descriptor of its struct are held against stock") {
  const std::string image =
      BootBytes{.kernel = noise(5000), .ramdisk = test::gzip(first_ramdisk())}.done();
  const std::string stock = top_level(
      image, hash_descriptor("dtbo", "the table", "its salt") + hashtree_descriptor("system"),
      1u << 17);
  const LoadedImage loaded = load(stock);
  // The same with another command line, its footer true for it.
  const std::string others =
      hash_descriptor("dtbo", "the table", "its salt") + hashtree_descriptor("system");
  const std::string whole = top_level(
      BootBytes{.kernel = noise(5000), .ramdisk = test::gzip(first_ramdisk()), .cmdline = "quiet"}
          .done(),
      others, 1u << 17);
  Intent intent;
  intent.fields["cmdline"] = "an edit";
  Patched same{.bytes = blob(whole)};
  REQUIRE(account(loaded, same, intent, Context{}));
  const std::size_t header = whole.rfind("AVB0");
  REQUIRE(header != whole.npos);
  std::vector<std::size_t> places{whole.find("dtbo", header),
                                  whole.find("its salt", header),
                                  whole.find("system", header),
                                  whole.find("a.b", header) + 4,
                                  whole.find("boot", header) + 1,
                                  whole.find("salt", header) + 1,
                                  header + 112 + 7};  // the rollback index
  for (std::size_t i = 0; i < 12; ++i)
    places.push_back(whole.size() - 64 + i);  // magic and version
  for (std::size_t i = 36; i < 64; ++i)
    places.push_back(whole.size() - 64 + i);  // reserved
  for (const std::size_t place : places) {
    CAPTURE(place);
    REQUIRE(place < whole.size());
    Bytes flipped = to_bytes(whole);
    flipped[place] ^= std::byte{1};
    Patched bad{.bytes = Blob(std::move(flipped))};
    CHECK_FALSE(account(loaded, bad, intent, Context{}));
  }
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

TEST_CASE("recipes: those that come with Wexlo load") {
  for (const BundledRecipe& bundled : bundled_recipes()) {
    CAPTURE(bundled.name);
    const auto described = describe_recipe(bundled.text, bundled.name);
    REQUIRE(described);
    CHECK(described->name == bundled.name);
    CHECK_FALSE(described->about.empty());
    Settings settings;
    const TempDir dir;
    test::write(dir / "program", "x");
    for (const Parameter& parameter : described->parameters)
      if (!parameter.fallback) settings[parameter.name] = (dir / "program").string();
    CHECK(load_recipe("@" + bundled.name, settings));
  }
  CHECK(load_recipe("@nothing", {}).error().code == ErrorCode::NotFound);
}

TEST_CASE("recipes: each mistake is told with its line") {
  const auto error = [](const std::string& text) {
    const TempDir dir;
    test::write(dir / "r.toml", text);
    auto loaded = load_recipes({(dir / "r.toml").string()}, {});
    if (!loaded) return loaded.error();
    // A file is asked for when it is known which image is patched.
    const auto bound = bind_recipes(*loaded, "arm64");
    REQUIRE_FALSE(bound);
    return bound.error();
  };
  const std::string head = "format = 1\nname = \"x\"\n[[edit]]\n";
  CHECK(error("format = 1\nname = ").message.find("line 2") != std::string::npos);
  CHECK(error("format = 9\nname = \"x\"").code == ErrorCode::Unsupported);
  CHECK(error("format = 9\nname = \"x\"").hint.contains("newer Wexlo"));
  const std::string bytes = head + "kind = \"kernel-bytes\"\nfind_text = \"abc\"\n";
  CHECK(error(bytes + "replace_text = \"ab\"\n").message.contains("3 bytes and replace 2"));
  CHECK(error(bytes + "replace_text = \"abcd\"\n").message.contains("3 bytes and replace 4"));
  const std::string property = head + "kind = \"dt-property\"\nnode = \"/a\"\nproperty = \"b\"\n";
  CHECK(error(property + "text = \"x\"\ncells = [1]\n").message.contains("exactly one"));
  CHECK(error(property + "remove = true\npresent = true\n").message.contains("exactly one"));
  CHECK(error(property).message.contains("exactly one"));
  CHECK(error(property + "cells = [1, 4294967296]\n").message.contains("no number"));
  CHECK(error(property + "cells = [-1]\n").message.contains("no number"));
  CHECK(error("format = 1\nname = \"x\"\n").code == ErrorCode::BadValue);
  CHECK(error(head + "kind = \"explode\"\n").code == ErrorCode::Unsupported);
  CHECK(error(head + "kind = \"put\"\npath = \"a\"\n").message.find("from") != std::string::npos);
  const Error leaves = error(head + "kind = \"put\"\npath = \"../a\"\nfrom = \"b\"\n");
  CHECK(leaves.message.find("line 5") != std::string::npos);
  CHECK(leaves.code == ErrorCode::UnsafePath);
  CHECK(error(head + "kind = \"put\"\npath = \"a\"\nfrom = \"b\"\n").code == ErrorCode::BadValue);
  CHECK(error(head + "kind = \"remove\"\npath = \"a\"\nkep_stock = true\n")
            .message.find("\"keep_stock\" is meant") != std::string::npos);
  CHECK(error(head + "kind = \"put\"\npath = \"a\"\nfrom = \"${who}\"\n").message.find("who") !=
        std::string::npos);
  CHECK(error(head + "kind = \"vbmeta-flags\"\nset = [\"all\"]\n").code == ErrorCode::BadValue);
  CHECK(error(head + "kind = \"vbmeta-flags\"\n").code == ErrorCode::BadValue);
  CHECK(error(head + "kind = \"property\"\nfile = \"a\"\nset = { \"a\" = \"b\\nc\" }\n").code ==
        ErrorCode::BadValue);
}

TEST_CASE("recipes: parameters have to be given, and only those that there are") {
  const TempDir dir;
  test::write(dir / "r.toml",
              "format = 1\nname = \"x\"\n[parameters.key]\nabout = \"a name\"\n[[edit]]\n"
              "kind = \"property\"\nfile = \"f\"\nset = { \"k\" = \"${key}!\" }\n");
  const std::string spec = (dir / "r.toml").string();
  CHECK(load_recipes({spec}, {}).error().code == ErrorCode::Usage);
  const auto loaded = load_recipes({spec}, {{"key", "v"}});
  REQUIRE(loaded);
  CHECK(std::get<PropertyEdit>((*loaded)[0].edits[0].what).set[0].second == "v!");
  CHECK(load_recipes({spec}, {{"key", "v"}, {"other", "w"}}).error().code == ErrorCode::Usage);
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
