/// Every kind of edit, by the examples of docs/recipes.md themselves: each is done, accounted for,
/// done only once, and undone bit for bit, over the images that phones have.

#include "core/edits_bench.hpp"

using namespace wexlo;
using namespace wexlo::test;

TEST_CASE("edits: each example is done, accounted for, done once, and undone bit for bit") {
  const TempDir dir;
  write_files(dir);
  std::map<std::string, int> done_by_kind;
  for (const std::string& example : examples()) {
    const auto recipes = load_example(dir, example);
    const std::string kind = kind_of(example);
    done_by_kind[kind];
    for (const Named& image : images()) {
      // Under the sanitizers some images of each kind will do.
      if (watched() && done_by_kind[kind] > 2) break;
      CAPTURE(kind);
      CAPTURE(image.name);
      const PatchRole role{.partition = image.partition, .allow_programs = true};
      const auto done = patch_image(load(image.bytes), role, recipes);
      REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
      if (!done->changed) continue;
      ++done_by_kind[kind];
      REQUIRE(done->edits.front().outcome == Outcome::Applied);
      CHECK_FALSE(done->edits.front().effects.empty());
      CHECK_FALSE(done->edits.front().why.empty());
      CHECK_FALSE(done->ranges.empty());
      CHECK(done->way_back.in_image);
      check_undone(*done, image.bytes);
      const auto twice = patch_image(load(text(done->bytes)), role, recipes);
      REQUIRE_MESSAGE(twice, (twice ? "" : describe(twice.error())));
      CHECK_FALSE(twice->changed);
      CHECK(twice->edits.front().outcome == Outcome::AlreadyDone);
      check_same(twice->bytes, done->bytes);
      CHECK(verified::own_digest_matches(done->bytes)->value_or(true));
    }
  }
  CHECK(done_by_kind.size() == 25);
  for (const auto& [kind, count] : done_by_kind) {
    CAPTURE(kind);
    CHECK(count > 0);
  }
}

TEST_CASE("edits: all kinds together, and a second recipe on top; the way back leads to stock") {
  const TempDir dir;
  write_files(dir);
  std::vector<Recipe> all;
  for (const std::string& example : examples()) {
    const std::string kind = kind_of(example);
    // These take away what another example edits.
    if (kind == "move" || kind == "part") continue;
    for (Recipe& recipe : load_example(dir, example))
      all.push_back(std::move(recipe));
  }
  for (const Named& image : images()) {
    CAPTURE(image.name);
    const PatchRole role{.partition = image.partition, .allow_programs = true};
    const auto done = patch_image(load(image.bytes), role, all);
    REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
    REQUIRE(done->changed);
    check_undone(*done, image.bytes);
    const auto twice = patch_image(load(text(done->bytes)), role, all);
    REQUIRE_MESSAGE(twice, (twice ? "" : describe(twice.error())));
    check_same(twice->bytes, done->bytes);
    if (image.partition == "vbmeta") continue;
    const auto more = load_example(dir,
                                   "format = 1\nname = \"more\"\n[[edit]]\nkind = \"link\"\n"
                                   "path = \"tide/second\"\ntarget = \"tool\"\n");
    const auto second = patch_image(load(text(done->bytes)), role, more);
    REQUIRE_MESSAGE(second, (second ? "" : describe(second.error())));
    CHECK(second->changed);
    check_undone(*second, image.bytes);
  }
}

TEST_CASE("edits: their order is respected, and conflicts are told") {
  const TempDir dir;
  const auto set = [&](const std::string& name, const std::string& value) {
    auto recipes = load_example(dir, "format = 1\nname = \"" + name +
                                         "\"\n[[edit]]\nkind = \"property\"\nset = { \"ro.tide\" = "
                                         "\"" +
                                         value + "\" }\n");
    return std::move(recipes.front());
  };
  const std::string stock = BootBytes{.ramdisk = rich_archive()}.done();
  const PatchRole role{"boot", true};
  const auto value = [](const Patched& done) { return at(ramdisk_of(done.bytes), "prop.default"); };
  const auto ab = patch_image(load(stock), role, {set("a", "1"), set("b", "2")});
  const auto ba = patch_image(load(stock), role, {set("b", "2"), set("a", "1")});
  REQUIRE(ab);
  REQUIRE(ba);
  CHECK(value(*ab).find("ro.tide=2\n") != std::string::npos);
  CHECK(value(*ba).find("ro.tide=1\n") != std::string::npos);
  REQUIRE(ab->conflicts.size() == 1);
  CHECK(ab->conflicts[0].where == "/prop.default:ro.tide");
  CHECK(ab->conflicts[0].earlier.starts_with("a:"));
  CHECK(ab->conflicts[0].later.starts_with("b:"));
  CHECK(patch_image(load(stock), role, {set("a", "1"), set("b", "1")})->conflicts.empty());
  // Done again, the two undo each other and nothing is left to do.
  const auto again = patch_image(load(text(ab->bytes)), role, {set("a", "1"), set("b", "2")});
  REQUIRE(again);
  CHECK_FALSE(again->changed);
  check_same(again->bytes, ab->bytes);
}

TEST_CASE(
    "edits: texts are edited together, and what puts another file there afterwards conflicts") {
  const TempDir dir;
  write_files(dir);
  const std::string head = "format = 1\nname = \"x\"\n";
  const std::string avb =
      "[[edit]]\nkind = \"fstab-drop\"\nmount_point = \"/system\"\nflags = [\"avb\"]\n";
  const std::string wait =
      "[[edit]]\nkind = \"fstab-drop\"\nmount_point = \"/system\"\nflags = [\"wait\"]\n";
  const std::string back =
      "[[edit]]\nkind = \"fstab-set\"\nmount_point = \"/system\"\nflags = [\"avb\"]\n";
  const std::string line =
      "[[edit]]\nkind = \"line-add\"\nfile = \"fstab.vernier\"\nlines = [\"# tide\"]\n";
  const std::string no_line =
      "[[edit]]\nkind = \"line-remove\"\nfile = \"fstab.vernier\"\nline = \"# tide\"\n";
  const std::string put = "[[edit]]\nkind = \"put\"\npath = \"fstab.vernier\"\nfrom = \"hello\"\n";
  const auto conflicts = [&](const std::string& edits) {
    const auto done = patch_image(load(BootBytes{.ramdisk = rich_archive()}.done()), {"boot", true},
                                  load_example(dir, head + edits));
    REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
    return done->conflicts.size();
  };
  CHECK(conflicts(avb + wait + line) == 0);
  CHECK(conflicts(avb + back) == 1);
  CHECK(conflicts(line + no_line) == 1);
  CHECK(conflicts(line + put) == 1);
  CHECK(conflicts(put) == 0);
}

TEST_CASE("edits: the header can be edited beside a ramdisk that nobody here reads") {
  const TempDir dir;
  const std::string stock =
      BootBytes{.version = 2, .ramdisk = "\x89LZO\0\r\n\x1a\n" + noise(500)}.done();
  const auto done =
      patch_image(load(stock), {"boot", true},
                  load_example(dir,
                               "format = 1\nname = \"x\"\n[[edit]]\nkind = \"header\"\n"
                               "set = { os_version = \"15.0.0\" }\n"));
  REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
  CHECK(done->changed);
  CHECK_FALSE(done->way_back.in_image);
  const auto refused =
      patch_image(load(stock), {"boot", true},
                  load_example(dir,
                               "format = 1\nname = \"x\"\n[[edit]]\nkind = \"remove\"\n"
                               "path = \"init\"\n"));
  REQUIRE_FALSE(refused);
  CHECK(refused.error().code == ErrorCode::Unsupported);
}
