/// kit.json out and in, and a kit's folder as it is opened.

#include "kit/folder/kit.hpp"

#include "kit/plan/plan_toml.hpp"
#include "kit/plan/planner.hpp"
#include "support/places.hpp"
#include "support/plan_facts.hpp"

using namespace wexlo;
using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

/// With something in every place.
KitManifest full() {
  KitManifest kit{
      .device = "gnomon",
      .build = "korvale/gnomon/gnomon:16/A/1:user/k",
      .patch_level = "2026-09-05",
      .firmware = "ota.zip",
      .purpose = Purpose::Update,
      .way = Way::Download,
      .slotted = true,
      .target = {"init_boot", "it has the first one", RamdiskLayout::Generic},
      .images = {image("system", Made::Given), image("init_boot"), image("vbmeta")},
      .verdict = {.needs = Needs::OwnKey,
                  .why = "It is signed.",
                  .locked = verified::Outlook::Starts,
                  .unlocked = verified::Outlook::Starts,
                  .key_sha256 = "kk"},
      .key = {"key/root-key.bin", 0, "kk"},
      .recipes = std::vector<KitRecipe>{{"one",
                                         "recipes/1.toml",
                                         "r",
                                         {{"a", "b"}},
                                         {{"hello", "", "recipes/files/h", "h"}}}},
      .settings = {Slots::Both, true, {{"arch", "arm64"}, {"kmi", "android13-5.15"}}, {"build"}},
      .chain = {{.partition = "boot",
                 .kernel = "5.10",
                 .cmdline = "a=b",
                 .init = "i",
                 .fstabs = {{"/fstab", "x\n"}},
                 .left = 7,
                 .left_known = true}},
      .super = SuperChange{{{{"system_a", 48, "main"}}, {{"main", 99}}, 200, true},
                           {{.steps = {{RoomAct::Drop, "product_a", 6, 0},
                                       {RoomAct::Resize, "system_a", 48, 58}}}}},
      .plan = {"plan.toml", 0, "p"},
      .files = {{"plan.txt", 3, "t"}, {"report.html", 5, "h"}}};
  kit.images[0].logical = "system_a";
  kit.images[0].given = Given{.partition = "system", .kind = "ext4"};
  kit.images[0].flash = {.size = 58, .pieces = {{"flash/system.piece-1.img", 30, "s1"}}};
  Patched& patched = kit.images[1].patched;
  patched.edits = {{.recipe = "one",
                    .kind = "put",
                    .summary = "s",
                    .outcome = Outcome::AlreadyDone,
                    .why = "w",
                    .details = {"d"},
                    .effects = {{"/init", "a", "b", {"-x", "+y"}}}}};
  patched.entries = {"changed /init"};
  patched.ranges = {{4096, 7, "ramdisk", "put"}};
  patched.way_back = {true, 0, "journal"};
  return kit;
}

/// A kit's folder with a plan and one image, and nothing else.
KitManifest write_kit(const TempDir& dir, const fs::path& at) {
  const std::string plan = format_plan(make_plan(facts())), bytes = "an image";
  write(dir / at / "plan.toml", plan);
  write(dir / at / "flash/boot.img", bytes);
  KitManifest kit{.device = "gnomon", .images = {{.partition = "boot"}}};
  kit.images[0].flash = {"flash/boot.img", bytes.size(), hex_of(sha256(bytes))};
  kit.plan = {"plan.toml", 0, hex_of(sha256(plan))};
  write(dir / at / "kit.json", format_manifest(kit));
  return kit;
}

}  // namespace

TEST_CASE("kit.json: what was written reads back, and is written the same") {
  const std::string text = format_manifest(full());
  const KitManifest read = value_of(parse_manifest(text, "kit.json"));
  CHECK(format_manifest(read) == text);
  CHECK(read.images.size() == 3);
  CHECK(read.images[0].logical == "system_a");
  CHECK(read.images[0].flash.pieces.size() == 1);
  CHECK(read.images[1].patched.edits.at(0).outcome == Outcome::AlreadyDone);
  CHECK(read.purpose == Purpose::Update);
  CHECK(read.settings.slots == Slots::Both);
  CHECK(read.settings.told == Values{{"arch", "arm64"}, {"kmi", "android13-5.15"}});
  CHECK(read.super->rooms.at(0).steps.at(1).act == RoomAct::Resize);
  // One without anything, too.
  const std::string bare = format_manifest({});
  CHECK(format_manifest(value_of(parse_manifest(bare, "kit.json"))) == bare);
  CHECK_FALSE(value_of(parse_manifest(bare, "kit.json")).recipes);
}

TEST_CASE("kit.json: all files that it names, in its order") {
  std::string names;
  for (const KitFile& one : files_of(full()))
    names += one.file + " ";
  CHECK(names ==
        "flash/system.piece-1.img stock/system.img flash/init_boot.img stock/init_boot.img "
        "flash/vbmeta.img stock/vbmeta.img key/root-key.bin recipes/1.toml recipes/files/h "
        "plan.toml plan.txt report.html ");
}

TEST_CASE("kit.json: a word that is not known is refused where it stands, not taken for another") {
  const std::string text = format_manifest(full());
  for (const auto& [was, now, key] : std::vector<std::array<std::string, 3>>{
           {"\"purpose\": \"update\"", "\"purpose\": \"upgrade\"", "purpose"},
           {"\"what\": \"given\"", "\"what\": \"gifted\"", "what"},
           {"\"do\": \"drop\"", "\"do\": \"lose\"", "do"},
           {"\"outcome\": \"already-done\"", "\"outcome\": \"fine\"", "outcome"},
           {"\"locked\": \"starts\"", "\"locked\": \"maybe\"", "locked"},
           {"\"layout\": \"generic\"", "\"layout\": \"special\"", "layout"},
           {"\"needs\": \"own-key\"", "\"needs\": \"luck\"", "needs"}}) {
    CAPTURE(now);
    std::string changed = text;
    const std::size_t at = changed.find(was);
    REQUIRE(at != changed.npos);
    changed.replace(at, was.size(), now);
    const auto read = parse_manifest(changed, "kit.json");
    REQUIRE_FALSE(read);
    CHECK(read.error().code == ErrorCode::BadValue);
    CHECK(describe(read.error()).contains(key));
  }
}

TEST_CASE("kit.json: a file of the kit has its digest") {
  const auto read = parse_manifest(
      R"({"format": 2, "device": "gnomon", "images": [{"partition": "boot", "what": "patched",
          "flash": {"file": "flash/boot.img", "size": 4}}]})",
      "kit.json");
  REQUIRE_FALSE(read);
  CHECK(read.error().code == ErrorCode::BadValue);
  CHECK(describe(read.error()).contains("sha256"));
}

TEST_CASE("kit.json: kits of the version before are read: large images stood in a list apart") {
  const auto read = value_of(parse_manifest(
      R"({"format": 1, "device": "gnomon", "images": [{"partition": "boot", "what": "patched",
          "flash": {"file": "flash/boot.img", "size": 4, "sha256": "b"}}],
          "given": [{"partition": "system", "logical": "system_a", "kind": "ext4", "build": "x",
          "pieces": [], "flash": {"file": "flash/system.img", "size": 9, "sha256": "s"}}]})",
      "kit.json"));
  REQUIRE(read.images.size() == 2);
  CHECK(read.images[0].partition == "system");
  CHECK(read.images[0].made == Made::Given);
  CHECK(read.images[1].flash.sha256 == "b");
  CHECK(parse_manifest(R"({"format": 3})", "kit.json").error().code == ErrorCode::Unsupported);
}

TEST_CASE("kit: opened, whole, and its plan and files read; changed, and they are not") {
  const TempDir dir;
  write_kit(dir, "kit");
  const Kit kit = value_of(Kit::open(dir / "kit"));
  CHECK(value_of(kit.verify({})).findings.empty());
  CHECK(value_of(kit.plan()) == make_plan(facts()));
  CHECK(value_of(kit.file("flash/boot.img"))->size() == 8);
  CHECK(kit.file("../kit/flash/boot.img").error().code == ErrorCode::UnsafePath);
  CHECK(kit.file("/etc/passwd").error().code == ErrorCode::UnsafePath);
  CHECK(kit.file("flash/../../x").error().code == ErrorCode::UnsafePath);
  CHECK(kit.recipes({}).error().code == ErrorCode::Unsupported);
  write(dir / "kit/plan.toml", read(dir / "kit/plan.toml") + "\n");
  CHECK(kit.plan().error().code == ErrorCode::DigestMismatch);
  CHECK(value_of(kit.verify({})).findings.size() == 1);
  fs::remove(dir / "kit/kit.json");
  CHECK(Kit::open(dir / "kit").error().code == ErrorCode::BadMagic);
  CHECK(Kit::open(dir / "nowhere").error().code == ErrorCode::NotFound);
}
