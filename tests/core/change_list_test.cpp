/// What recipes leave behind for whoever takes them out again, and a mount point of their own.

#include "core/edits_bench.hpp"
#include "kit/verdict/patch_notes.hpp"

namespace wexlo::test {

namespace {

const std::string kListHead = "format = 1\nname = \"tide\"\n";

std::vector<Recipe> list_recipes(const std::string& edits) {
  const TempDir dir;
  write(dir / "hello", elf("arm64", "tide"));
  write(dir / "r.toml", kListHead + edits);
  auto recipes = value_of(load_recipes({(dir / "r.toml").string()}, {}));
  REQUIRE(bind_recipes(recipes, {.architecture = "arm64"}));
  return recipes;
}

Patched list_patch(const std::string& image, const std::vector<Recipe>& recipes) {
  auto done = patch_image(load(image), {"boot", true}, recipes);
  REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
  return std::move(*done);
}

std::string list_image() {
  return BootBytes{.version = 2,
                   .ramdisk = gzip(CpioBytes{}
                                       .folder("system")
                                       .file("init", elf("arm64", "stock"))
                                       .file("init.rc", "on boot\n")
                                       .file("fstab.tarn", "a /a ext4 ro wait\r\n")
                                       .file("gone", "x")
                                       .done())}
      .done();
}

const std::string kListEdits =
    "[[edit]]\nkind = \"change-list\"\npath = \"tide/all changes\"\n[[edit]]\nkind = \"put\"\npath "
    "= \"init\"\nfrom = \"hello\"\nkeep_stock = \"tide/init.xz\"\nkeep_pack = \"xz\"\n[[edit]]\n"
    "kind = \"remove\"\npath = \"gone\"\n[[edit]]\nkind = \"chmod\"\npath = \"init.rc\"\nmode = "
    "0o600\n";

}  // namespace

TEST_CASE("change-list: what was added, changed, removed and kept, also over two runs") {
  const std::string image = list_image();
  const Patched first = list_patch(image, list_recipes(kListEdits));
  const std::string list = at(ramdisk_of(first.bytes.view()), "tide/all changes");
  CHECK(list ==
        "added /tide\nadded /tide/all%20changes\nadded /tide/init.xz\nchanged /init\n"
        "changed /init.rc\nkept /init /tide/init.xz\nremoved /gone\n");
  check_undone(first, image);
  CHECK_FALSE(list_patch(text(first.bytes.view()), list_recipes(kListEdits)).changed);
  // The reports stay in the recipe's order.
  CHECK(first.edits.front().kind == "change-list");
  CHECK(first.edits.front().outcome == Outcome::Applied);
  // Another recipe came first, and did not ask for a list.
  const Patched before =
      list_patch(image, list_recipes("[[edit]]\nkind = \"put\"\npath = \"early\"\n"
                                     "text = \"x\"\n"));
  const Patched later = list_patch(text(before.bytes.view()), list_recipes(kListEdits));
  const std::string both = at(ramdisk_of(later.bytes.view()), "tide/all changes");
  CHECK(both == "added /early\n" + list);
  CHECK_FALSE(list_patch(text(later.bytes.view()), list_recipes(kListEdits)).changed);
}

TEST_CASE("change-list: two lists have each other's places, and twice is once") {
  const std::string image = list_image();
  const auto recipes = list_recipes(
      "[[edit]]\nkind = \"change-list\"\npath = \"a/list\"\n[[edit]]\nkind = \"change-list\"\n"
      "path = \"b/list\"\n[[edit]]\nkind = \"change-list\"\npath = \"c/list\"\nwhen = { layout = "
      "[\"generic\"], reason = \"a test\" }\n");
  const Patched first = list_patch(image, recipes);
  const Ramdisk ramdisk = ramdisk_of(first.bytes.view());
  const std::string list = "added /a\nadded /a/list\nadded /b\nadded /b/list\n";
  CHECK(at(ramdisk, "a/list") == list);
  CHECK(at(ramdisk, "b/list") == list);
  CHECK_FALSE(find_entry(ramdisk, "c/list"));
  check_undone(first, image);
  CHECK_FALSE(list_patch(text(first.bytes.view()), recipes).changed);
}

TEST_CASE("change-list: without a way back an earlier list is gone on with, and none is made up") {
  // The way back has the stock program in it, and no room.
  const std::string bare =
      BootBytes{.version = 2,
                .ramdisk = gzip(CpioBytes{}.file("init", elf("arm64", noise(60'000))).done())}
          .done();
  const std::string image = with_footer(bare, "boot", (bare.size() / 4096 + 6) * 4096);
  const std::string other = elf("arm64", noise(60'000, 9));
  const std::string init = "[[edit]]\nkind = \"put\"\npath = \"init\"\nfrom = \"other\"\n";
  const std::string list = "[[edit]]\nkind = \"change-list\"\npath = \"changes\"\n";
  const auto recipes = [&](const std::string& edits) {
    const TempDir dir;
    write(dir / "other", other);
    write(dir / "r.toml", kListHead + edits);
    return value_of(load_recipes({(dir / "r.toml").string()}, {}));
  };
  const Patched first = list_patch(image, recipes(init + list));
  REQUIRE_FALSE(first.way_back.in_image);
  CHECK(at(ramdisk_of(first.bytes.view()), "changes") == "added /changes\nchanged /init\n");
  const std::string bytes = text(first.bytes.view());
  CHECK_FALSE(list_patch(bytes, recipes(init + list)).changed);
  const Patched more = list_patch(
      bytes, recipes(init + "[[edit]]\nkind = \"put\"\npath = \"x\"\ntext = \"1\"\n" + list));
  CHECK(at(ramdisk_of(more.bytes.view()), "changes") ==
        "added /changes\nadded /x\nchanged /init\n");
  const Patched without = list_patch(image, recipes(init));
  REQUIRE_FALSE(without.way_back.in_image);
  const auto none =
      patch_image(load(text(without.bytes.view())), {"boot", true}, recipes(init + list));
  REQUIRE_FALSE(none);
  CHECK(none.error().code == ErrorCode::NoWayBack);
}

TEST_CASE("fstab-add: a line with the file's own line end, once, and beside no other") {
  const auto recipe = [](const std::string& mount_point) {
    return list_recipes("[[edit]]\nkind = \"fstab-add\"\nmount_point = \"" + mount_point +
                        "\"\ndevice = \"/dev/t\"\ntype = \"ext4\"\nflags = [\"wait\", "
                        "\"nofail\"]\n");
  };
  const Patched done = list_patch(list_image(), recipe("/tide"));
  CHECK(at(ramdisk_of(done.bytes.view()), "fstab.tarn") ==
        "a /a ext4 ro wait\r\n/dev/t /tide ext4 defaults wait,nofail\r\n");
  const Patched other = list_patch(list_image(), recipe("/a"));
  CHECK_FALSE(other.changed);
  REQUIRE(other.notes.size() == 1);
  CHECK(other.notes.front().text.find("mounts /a already") != std::string::npos);
}

TEST_CASE("fstab-add: a tree gets a node that is read as a mount point") {
  const std::string image =
      BootBytes{.version = 2,
                .kernel = rich_kernel(),
                .ramdisk = gzip(CpioBytes{}.file("init", elf("arm64", "stock")).done()),
                .dtb = rich_tree()}
          .done();
  const Patched done = list_patch(
      image, list_recipes("[[edit]]\nkind = \"fstab-add\"\nmount_point = \"/mnt/tide\"\ndevice = "
                          "\"/dev/t\"\ntype = \"ext4\"\noptions = \"ro\"\nflags = [\"wait\"]\n"));
  check_undone(done, image);
  const auto nodes =
      dt::mount_nodes(load(text(done.bytes.view())).image->section("dtb")->bytes.view());
  const auto tide = std::ranges::find(nodes, "/mnt/tide", &dt::MountNode::mount_point);
  REQUIRE(tide != nodes.end());
  CHECK(tide->node == "/firmware/android/fstab/mnt_tide");
  CHECK(tide->flags == "wait");
}

TEST_CASE("no-start-edit: told where the edit that replaces init was left out everywhere") {
  const auto report = [](Outcome outcome) {
    return EditReport{.recipe = "tide", .outcome = outcome, .why = "it is for layout generic"};
  };
  const auto recipes = list_recipes(
      "[[edit]]\nkind = \"put\"\npath = \"init\"\nfrom = \"hello\"\n[[edit]]\nkind = \"put\"\npath "
      "= \"conf\"\ntext = \"x\"\n[[edit]]\nkind = \"link\"\npath = \"init\"\ntarget = \"x\"\n");
  const auto told = [&](Outcome put, Outcome conf, Outcome link) {
    std::vector<Finding> out;
    judge_start_edits(recipes, {{report(put), report(conf), report(link)}}, out);
    return out.size();
  };
  CHECK(told(Outcome::Skipped, Outcome::Applied, Outcome::Skipped) == 1);
  CHECK(told(Outcome::Skipped, Outcome::Applied, Outcome::Applied) == 0);
  CHECK(told(Outcome::AlreadyDone, Outcome::Applied, Outcome::Skipped) == 0);
  CHECK(told(Outcome::NoMatch, Outcome::Skipped, Outcome::NoMatch) == 0);
  CHECK(told(Outcome::Elsewhere, Outcome::Applied, Outcome::Skipped) == 1);
}

TEST_CASE("recipes --check: a layout that is left out for no reason is warned of, with its place") {
  const auto told = [](const std::string& edits) {
    const TempDir dir;
    write(dir / "r.toml", kListHead + edits);
    std::string out;
    for (const Mistake& one : value_of(check_recipe((dir / "r.toml").string(), {})))
      out += std::to_string(one.line) + ":" + std::to_string(one.column) +
             (one.warning ? " " : "!") + one.message.substr(0, 64) + "\n";
    return out;
  };
  const auto edit = [](const std::string& path, const std::string& when) {
    return "[[edit]]\nkind = \"put\"\npath = \"" + path + "\"\ntext = \"x\"\n" +
           (when.empty() ? "" : "when = { " + when + " }\n");
  };
  const std::string some = "layout = [\"generic\", \"two-stage\"]";
  CHECK(told(edit("a", some)) ==
        "7:19 no edit does this in the layouts ramdisk-root, two-stage-recover\n");
  CHECK(told(edit("a", some + ", reason = \"the others have it\"")).empty());
  CHECK(told(edit("a", some) + edit("a",
                                    "layout = [\"ramdisk-root\", \"two-stage-recovery\", "
                                    "\"system-root\"]"))
            .empty());
  CHECK(told(edit("a", some) + edit("b", "")).size() > 10);
  CHECK(told(edit("a", "layout = [\"recovery\"]")).empty());
  CHECK(told(edit("a", "")).empty());
}

}  // namespace wexlo::test
