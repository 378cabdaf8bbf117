#include "recipe/way_back.hpp"
#include "recipe/restore.hpp"

#include "base/delta.hpp"
#include "image/words.hpp"
#include "job/restore.hpp"
#include "recipe/patch.hpp"
#include "support/patching.hpp"
#include "support/run.hpp"
#include "support/vbmeta.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

void check_delta(const std::string& source, const std::string& target, std::size_t most) {
  const Bytes delta = make_delta(as_view(source), as_view(target));
  CHECK(delta.size() <= most);
  const auto back = apply_delta(as_view(source), delta, target.size());
  REQUIRE(back);
  check_same(*back, as_view(target));
}

Recipe put_recipe(const std::string& path, const std::string& content) {
  Recipe recipe{.name = "tests"};
  recipe.edits.push_back({.kind = "put", .recipe = "tests", .settings = path + content});
  recipe.edits.back().what =
      PutEdit{.path = path, .from = {.bound = true, .files = {{"", blob(content)}}}};
  return recipe;
}

}  // namespace

TEST_CASE("delta: small for small changes, right for all") {
  const std::string a = noise(100000), b = noise(5000, 2);
  check_delta(a, a, 16);
  check_delta(a, "", 4);
  check_delta("", a, a.size() + 16);
  check_delta("short", "shorter", 16);
  std::string changed = a;
  changed[5000] ^= 1;
  check_delta(a, changed, 64);
  check_delta(a, a.substr(0, 3000) + b + a.substr(3000), b.size() + 128);
  check_delta(a, a.substr(50000) + a.substr(0, 50000), 128);
  check_delta(a, a.substr(0, 20) + a.substr(60), 64);
  check_delta(std::string(4096, '\0'), std::string(1u << 20, '\0'), 2000);
  for (std::uint32_t seed = 1; seed < 40; ++seed) {
    std::string mixed;
    for (std::uint32_t i = 0; i < 30; ++i)
      mixed += i % 3 == 0 ? noise(seed * i % 90, i)
                          : a.substr((seed * 7919 + i * 104729) % 90000, (seed * i) % 400);
    check_delta(a, mixed, mixed.size() + 400);
  }
}

TEST_CASE("delta: damage is told, and never reads outside") {
  const std::string a = noise(4000), b = a.substr(1000) + noise(100, 3);
  const Bytes good = make_delta(as_view(a), as_view(b));
  int wrong = 0;
  for (std::size_t i = 0; i < good.size(); ++i)
    for (const int bit : {0, 3, 7}) {
      Bytes bad = good;
      bad[i] ^= static_cast<std::byte>(1 << bit);
      const auto out = apply_delta(as_view(a), bad, b.size());
      wrong += !out || !equal(*out, as_view(b)) ? 1 : 0;
    }
  CHECK(wrong == static_cast<int>(good.size() * 3));
  for (std::size_t size = 0; size < good.size(); ++size)
    CHECK_FALSE(apply_delta(as_view(a), View(good).first(size), b.size()));
  CHECK_FALSE(apply_delta(as_view(a), good, b.size() - 1));
}

TEST_CASE("way back: a stream no usual encoder gives is carried whole, by gzip's own program") {
  const TempDir dir;
  test::write(dir / "ramdisk", first_ramdisk() + noise(300000));
  std::string archive = CpioBytes{}.file("init", elf("arm64", "x"), 0100755).done();
  for (std::uint32_t i = 0; i < 30; ++i)
    archive = CpioBytes{}
                  .file("init", elf("arm64", "x"), 0100755)
                  .file("data", noise(40000, i).append(60000, 'x') + archive.substr(0, 100000))
                  .done();
  test::write(dir / "ramdisk", archive);
  for (const char* tool : {"gzip -9n", "gzip -1n", "lz4 -l -1", "lz4 -l -12",
                           "xz -9e --check=crc32", "zstd -19 -q", "bzip2 -9"}) {
    CAPTURE(tool);
    REQUIRE(shell(std::string(tool) + " <ramdisk >packed", dir.path().string()).exit_code == 0);
    const std::string stock = BootBytes{.ramdisk = test::read(dir / "packed")}.done();
    const auto done = patch_image(load(stock), {"boot", true}, {put_recipe("added", "new")});
    REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
    CHECK(done->way_back.in_image);
    const auto back = restore_image(load(text(done->bytes)), {}, {});
    REQUIRE_MESSAGE(back, (back ? "" : describe(back.error())));
    check_same(back->bytes, as_view(stock));
  }
}

TEST_CASE("way back: damage in it, or in what it counts from, gives an error and never an image") {
  const std::string stock =
      BootBytes{.ramdisk = first_ramdisk()}.done();  // uncompressed: bytes can be reached
  const auto done = patch_image(load(stock), {"boot", true}, {put_recipe("init", "the add-on")});
  REQUIRE(done);
  REQUIRE(done->way_back.in_image);
  const std::string good = text(done->bytes);
  int refused = 0, same = 0;
  for (std::size_t at = 4096; at < good.size(); at += 7) {
    std::string bad = good;
    bad[at] = static_cast<char>(bad[at] ^ 0x10);
    const auto loaded = load_image(blob(bad), "bad");
    if (!loaded || !loaded->image) continue;
    const auto back = restore_image(*loaded, {}, {});
    if (!back)
      ++refused;
    else if (equal(back->bytes.view(), as_view(stock)))
      ++same;
    else
      FAIL("a wrong image came out, changed at " << at);
  }
  CHECK(refused > 100);
  CHECK(same > 0);  // what the patch had replaced does not matter for the way back
}

TEST_CASE("way back: a row longer than what the difference gives is cut short, not read past") {
  const std::string stock = BootBytes{.ramdisk = first_ramdisk()}.done();
  const auto done = patch_image(load(stock), {"boot", true}, {put_recipe("init", "the add-on")});
  REQUIRE(done);
  auto patched = load(text(done->bytes));
  const auto journal = find_journal(patched, {});
  REQUIRE((journal && *journal));
  const auto part = boot::ramdisk_parts(*patched.image).front();
  auto ramdisk = ramdisk_of(done->bytes.view());
  const auto place = find_entry(ramdisk, kWayBackPlace);
  REQUIRE(place);
  const auto plain = decode(Compression::Xz, content_of(ramdisk, *place).view());
  REQUIRE(plain);
  // A line, the number of rows; of the first row its kind, the bytes before it and its own.
  const View good = plain->bytes.view();
  const std::size_t head = as_text(good).find('\n') + 3;
  View rest = good.subspan(head);
  const auto gap = take_varint(rest);
  const auto size = take_varint(rest);
  REQUIRE((gap && size));
  // The stream is not packed: what follows it in the image may as well be said to be in it.
  const std::uint64_t most = stock.size() - *gap;
  REQUIRE(*size < most);
  const auto follow = [&](std::uint64_t said) {
    Bytes rows = to_bytes(good.first(head));
    put_varint(rows, *gap);
    put_varint(rows, said);
    append(rows, rest);
    edit_entry(ramdisk, *place).set_data(Blob(*encode(Compression::Xz, rows)));
    REQUIRE(patched.image->replace(part.section, Blob(*encode_ramdisk(ramdisk))));
    return follow_way_back(load(text(patched.image->write())), **journal, {});
  };
  const auto all = follow(most);
  REQUIRE(all);
  CHECK(equal(all->view(), as_view(stock)));
  for (const std::uint64_t more : {std::uint64_t{1}, std::uint64_t{5000}, ~most}) {
    CAPTURE(more);
    const auto past = follow(most + more);
    REQUIRE_FALSE(past);
    CHECK(past.error().code == ErrorCode::Truncated);
  }
}

TEST_CASE("way back: that it leads to the stock image is found out byte by byte") {
  const std::string stock = BootBytes{.ramdisk = test::gzip(first_ramdisk())}.done();
  const auto done = patch_image(load(stock), {"boot", true}, {put_recipe("init", "the add-on")});
  REQUIRE(done);
  const auto patched = load(text(done->bytes));
  const auto journal = find_journal(patched, {});
  REQUIRE((journal && *journal));
  // What was packed before the patch, as who patches knows it; and as nobody does.
  const auto read = value_of(load(stock).decoded->ramdisks({}));
  const RamdiskSegment& segment = read->front().ramdisk->segments.front();
  const Setting setting = find_setting(segment.compression, segment.decoded.view(),
                                       segment.encoded.view(), segment.framing, {});
  REQUIRE(setting.proof == Proof::Whole);
  const auto known = std::make_shared<Repacking>(
      Repacking{segment.compression, setting.framing, segment.decoded, segment.encoded, true});
  const auto leads = [&](const std::string& to, bool is_known) {
    const auto found =
        check_way_back(patched, **journal, blob(to),
                       is_known ? std::vector{known} : decltype(std::vector{known}){}, {});
    if (!found) CHECK(found.error().code == ErrorCode::NoWayBack);
    return found.has_value();
  };
  for (const bool is_known : {true, false}) {
    CAPTURE(is_known);
    CHECK(leads(stock, is_known));
    CHECK_FALSE(leads(stock + '\0', is_known));
    CHECK_FALSE(leads(stock.substr(0, stock.size() - 1), is_known));
    CHECK_FALSE(leads("", is_known));
    for (std::size_t place = 0; place < stock.size(); place += 97) {
      CAPTURE(place);
      std::string other = stock;
      other[place] ^= 1;
      CHECK_FALSE(leads(other, is_known));
    }
  }
  // An answer that was not tried yet is none.
  known->same = false;
  CHECK(leads(stock, true));
  known->decoded = blob("another content");
  known->same = true;
  CHECK(leads(stock, true));
}

TEST_CASE("way back: a kernel alone has none, and a copy that the journal knows is one") {
  const TempDir dir;
  const std::string stock = BootBytes{.kernel = arm64_kernel("6.1.0-x")}.done();
  Recipe recipe{.name = "tests"};
  recipe.edits.push_back({.kind = "cmdline", .recipe = "tests", .home = Home::Cmdline});
  recipe.edits.back().what = CmdlineEdit{{{"quiet", ""}}, {}, {"console"}};
  const auto done = patch_image(load(stock), {"boot", true}, {recipe});
  REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
  CHECK(done->changed);
  CHECK_FALSE(done->way_back.in_image);
  CHECK_FALSE(patch_image(load(text(done->bytes)), {"boot", true}, {recipe})->changed);
  CHECK(restore_image(load(text(done->bytes)), {}, {}).error().code == ErrorCode::NoWayBack);
  test::write(dir / "stock.img", stock);
  CHECK(restore_file(load(text(done->bytes)), "x", dir / "stock.img", {}).error().code ==
        ErrorCode::NoWayBack);
  // A kit knows which is which.
  std::filesystem::create_directories(dir / "kit/stock");
  test::write(dir / "kit/stock/boot.img", stock);
  test::write(
      dir / "kit/kit.json",
      R"({"format": 1, "images": [{"partition": "boot", "what": "patched", "flash": {"file": "flash/boot.img", "sha256": ")" +
          done->sha256 + R"("}, "stock": {"file": "stock/boot.img", "sha256": ")" +
          hex_of(sha256(stock)) + R"("}}]})");
  const auto back = restore_file(load(text(done->bytes)), "x", dir / "kit/stock/boot.img", {});
  REQUIRE_MESSAGE(back, (back ? "" : describe(back.error())));
  check_same(back->bytes, as_view(stock));
}

TEST_CASE("restore: stock boot takes a recovery of another tool with it, and says so") {
  const auto ramdisk = [](const std::string& recovery) {
    return CpioBytes{}
        .folder("system")
        .folder("system/bin")
        .folder("first_stage_ramdisk")
        .file("init", elf("arm64", "init"), 0100750)
        .file("system/bin/recovery", elf("arm64", recovery), 0100750)
        .done();
  };
  const std::string stock = BootBytes{.version = 2, .ramdisk = test::gzip(ramdisk("stock"))}.done();
  Recipe recipe{.name = "tests"};
  recipe.edits.push_back({.kind = "part", .recipe = "tests"});
  recipe.edits.back().what =
      PartEdit{.part = "ramdisk",
               .from = {.bound = true, .files = {{"", blob(test::gzip(ramdisk("custom")))}}}};
  const auto done = patch_image(load(stock), {"boot", true}, {recipe});
  REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
  const auto back = restore_image(load(text(done->bytes)), {}, {});
  REQUIRE(back);
  check_same(back->bytes, as_view(stock));
  REQUIRE(back->notes.size() == 1);
  CHECK(back->notes[0].find("removes it") != std::string::npos);
}

TEST_CASE("words: set, added, removed; everything else keeps its bytes") {
  const std::string line = "console=ttyKV0,115200  quiet dm=\"system none ro\" a-b=1 quiet2 a_b=2";
  CHECK(words::split(line).size() == 6);
  CHECK(words::set(line, "console", "ttyKV1") ==
        "console=ttyKV1  quiet dm=\"system none ro\" a-b=1 quiet2 a_b=2");
  CHECK(words::set(line, "a_b", "3") ==
        "console=ttyKV0,115200  quiet dm=\"system none ro\" a_b=3 quiet2");
  CHECK(words::set("", "x", "1") == "x=1");
  CHECK(words::set("x ", "y", "") == "x y");
  CHECK(words::add(line, "quiet") == line);
  CHECK(words::remove(line, "dm") == "console=ttyKV0,115200  quiet a-b=1 quiet2 a_b=2");
  CHECK(words::remove(line, "console") == "quiet dm=\"system none ro\" a-b=1 quiet2 a_b=2");
  CHECK(words::remove(line, "console=other") == line);
  CHECK(words::remove("one", "one").empty());
  const std::string config = "# about\nandroidboot.a = 1; androidboot.b=\"x;y\"\nandroidboot.c\n";
  CHECK(words::set_bootconfig(config, "androidboot.a", "1") == config);
  CHECK(words::set_bootconfig(config, "androidboot.a", "2") ==
        "# about\nandroidboot.a=2; androidboot.b=\"x;y\"\nandroidboot.c\n");
  CHECK(words::set_bootconfig(config, "androidboot.d", "a b") ==
        config + "androidboot.d=\"a b\"\n");
  CHECK(words::remove_bootconfig(config, "androidboot.c") ==
        "# about\nandroidboot.a = 1; androidboot.b=\"x;y\"\n");
  CHECK(words::remove_bootconfig(config, "androidboot.b") ==
        "# about\nandroidboot.a = 1;androidboot.c\n");
}

TEST_CASE(
    "delta: literals and stretches beyond the promised size are refused, at the promise they are "
    "not") {
  const auto made = [](std::uint64_t total, std::uint64_t fresh, const std::string& bytes) {
    Bytes out;
    put_varint(out, total);
    put_varint(out, fresh);
    append(out, as_view(bytes));
    return out;
  };
  CHECK(text(value_of(apply_delta(as_view("source"), made(3, 3, "abc"), 3))) == "abc");
  for (const Bytes& bad :
       {made(2, 3, "abc"), made(3, 3, "ab"), made(4, 3, "abc"), made(3, 4, "abc")}) {
    const auto out = apply_delta(as_view("source"), bad, 100);
    REQUIRE_FALSE(out);
    CHECK(out.error().code == ErrorCode::OutOfRange);
  }
  CHECK_FALSE(apply_delta(as_view("source"), made(3, 3, "abc"), 2));
  // A stretch of the source: from its first byte, all of it, and one byte more.
  const auto stretch = [&](std::uint64_t size) {
    Bytes out = made(size, 0, "");
    put_varint(out, size);
    put_varint(out, 0);
    put_varint(out, 0);
    return out;
  };
  CHECK(text(value_of(apply_delta(as_view("source"), stretch(6), 100))) == "source");
  CHECK_FALSE(apply_delta(as_view("source"), stretch(7), 100));
}
