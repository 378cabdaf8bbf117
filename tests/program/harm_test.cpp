/// What must never harm: crashes, lost files, unbounded trust. Each case is named for what went
/// wrong once.

#include <pty.h>
#include <signal.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include <filesystem>
#include <thread>

#include "program/bench.hpp"
#include "support/rounds.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

Ran in_shell(const TempDir& dir, const std::string& line) {
  return shell("export XDG_CONFIG_HOME=/nonexistent NO_COLOR=1; " + line, dir.path().string());
}
const std::string kWexlo = std::string("\"") + WEXLO_PROGRAM + "\" ";

/// No signal, and a reply that is whole.
void check_sane(const TempDir& dir, const std::vector<std::string>& words) {
  std::string shown;
  for (const std::string& word : words)
    shown += word + " ";
  CAPTURE(shown);
  const Ran ran = program(dir, words);
  CAPTURE(ran.out);
  CAPTURE(ran.err);
  CHECK(ran.exit_code < 7);
  const bool json = std::ranges::find(words, "--json") != words.end();
  if (json) CHECK(Json::accept(ran.out));
  if (ran.exit_code != 0 && !json) CHECK_FALSE(ran.err.empty());
}

}  // namespace

TEST_CASE(
    "prepare: an image given along with a recipe that acts elsewhere ends with a whole reply") {
  const Bench bench;
  write(bench.dir / "image.img", bench.images.at("boot"));
  write(bench.dir / "sheet.toml", Bench::sheet("recovery_a = 262144\ndtbo_a = 262144\n"));
  for (const std::string partition : {"recovery", "boot", "dtbo", "vbmeta"})
    for (const std::string more : {"--json", "--dry-run", "--verbose", "--quiet"})
      for (const bool sheet : {false, true}) {
        std::vector<std::string> words{
            "prepare", "ota.zip", "-r",      "flags.toml", "--with", partition + "=image.img",
            "-o",      "kit",     "--force", more};
        if (sheet) words.insert(words.end(), {"--sheet", "sheet.toml"});
        check_sane(bench.dir, words);
      }
}

TEST_CASE("an output that is an input is refused by whatever name, and the input stays") {
  const Bench bench;
  const std::string stock = bench.images.at("init_boot");
  write(bench.dir / "init_boot.img", stock);
  fs::create_symlink("init_boot.img", bench.dir / "link.img");
  fs::create_directory(bench.dir / "sub");
  for (const char* out : {"init_boot.img", "link.img", "sub/../init_boot.img", "./init_boot.img"}) {
    CAPTURE(out);
    CHECK(program_json(bench.dir, {"patch", "init_boot.img", "-r", "r.toml", "--force", "-o", out},
                       2)["error"]["code"] == "usage");
    CHECK(read(bench.dir / "init_boot.img") == stock);
  }
  REQUIRE(program(bench.dir, {"patch", "init_boot.img", "-r", "r.toml", "-o", "patched.img"})
              .exit_code == 0);
  REQUIRE(program(bench.dir, {"unpack", "init_boot.img", "-o", "parts"}).exit_code == 0);
  REQUIRE(program(bench.dir, {"keys", "new", "k.pem", "--bits", "2048"}).exit_code == 0);
  const auto before = files_of(bench.dir.path());
  const std::vector<std::vector<std::string>> calls{
      {"restore", "patched.img", "--force", "-o", "patched.img"},
      {"restore", "patched.img", "--stock", "init_boot.img", "--force", "-o", "init_boot.img"},
      {"repack", "parts", "--force", "-o", "parts/header.bin"},
      {"unpack", "parts/header.bin", "--force", "-o", "parts"},
      {"extract", "init_boot.img", "--force", "-o", "."},
      {"draw", "init_boot.img", "--force", "-o", "init_boot.img.svg/../init_boot.img"},
      {"sheet", "--over", "sheet.toml", "--force", "-o", "sheet.toml"},
      {"keys", "show", "k.pem", "--force", "-o", "k.pem"},
      {"keys", "new", "x.pem", "--force", "-o", "x.pem"},
      {"seal", "init_boot.img", "--force", "-o", "."},
      {"insert", "ota.zip", "boot=init_boot.img", "--force", "-o", "init_boot.img"},
      {"prepare", "ota.zip", "-r", "r.toml", "--force", "-o", "r.toml"},
  };
  for (const auto& call : calls) {
    CAPTURE(call[0]);
    CAPTURE(call.back());
    const Ran ran = program(bench.dir, call);
    CAPTURE(ran.err);
    CHECK(ran.exit_code == 2);
  }
  CHECK(files_of(bench.dir.path()) == before);
  CHECK(read(bench.dir / "init_boot.img") == stock);
}

TEST_CASE("insert: a folder into itself is refused, not copied for ever") {
  const Bench bench;
  fs::create_directory(bench.dir / "fw");
  write(bench.dir / "fw/boot.img", bench.images.at("boot"));
  write(bench.dir / "new.img", bench.images.at("boot"));
  for (const char* out : {"fw/sub", "fw", "fw/../fw/sub/deep"}) {
    CAPTURE(out);
    CHECK(program_json(bench.dir, {"insert", "fw", "boot=new.img", "-o", out},
                       2)["error"]["code"] == "usage");
  }
  CHECK(files_of(bench.dir / "fw") == std::set<std::string>{"boot.img"});
}

TEST_CASE("kit.json whose values are of other types: an error with its place, no abort") {
  const Bench bench;
  REQUIRE(bench.prepare({"-r", "r.toml", "--sheet", "sheet.toml"})["ok"] == true);
  const std::string whole = read(bench.dir / "kit/kit.json");
  const Json good = Json::parse(whole);
  std::vector<Json::json_pointer> places;
  const std::function<void(const Json&, const Json::json_pointer&)> walk =
      [&](const Json& value, const Json::json_pointer& at) {
        if (!at.empty()) places.push_back(at);
        if (value.is_object())
          for (const auto& [key, one] : value.items())
            walk(one, at / key);
        if (value.is_array())
          for (std::size_t i = 0; i < std::min<std::size_t>(value.size(), 1); ++i)
            walk(value[i], at / i);
      };
  walk(good, Json::json_pointer());
  REQUIRE(places.size() > 40);
  const std::vector<Json> odd{Json(7), Json::array(), Json("x"), Json(-1), Json(true)};
  std::size_t number = 0;
  for (const auto& place : places) {
    Json changed = good;
    changed[place] = odd[number++ % odd.size()];
    if (changed == good) continue;
    write(bench.dir / "kit/kit.json", changed.dump());
    CAPTURE(place.to_string());
    const Ran checked = program(bench.dir, {"check", "kit", "--json"});
    CHECK((checked.exit_code == 1 || checked.exit_code == 3 || checked.exit_code == 4));
    CHECK(Json::accept(checked.out));
    if (number % 8 != 0) continue;
    check_sane(bench.dir, {"prepare", "ota.zip", "--like", "kit", "--dry-run", "--json"});
    check_sane(bench.dir, {"draw", "kit", "--figure", "super", "-o", "x.svg", "--json"});
    check_sane(bench.dir, {"restore", "kit/flash/init_boot.img", "--stock",
                           "kit/stock/init_boot.img", "--dry-run", "--json"});
  }
  Json changed = good;
  changed["images"][0]["flash"]["sha256"] = 5;
  write(bench.dir / "kit/kit.json", changed.dump());
  const Json said = program_json(bench.dir, {"check", "kit"}, 3);
  CHECK(said["error"]["message"].get<std::string>().find("images[0].flash.sha256") !=
        std::string::npos);
}

TEST_CASE("documents nested deep or with keys of many parts: refused by each of their readers") {
  const Bench bench;
  REQUIRE(bench.prepare({"-r", "r.toml"})["ok"] == true);
  write(bench.dir / "init_boot.img", bench.images.at("init_boot"));
  REQUIRE(program(bench.dir, {"unpack", "init_boot.img", "-o", "parts"}).exit_code == 0);
  REQUIRE(program(bench.dir, {"extract", "ota.zip", "-o", "images"}).exit_code == 0);
  std::string deep = "{\"a\": ";
  deep += std::string(20'000, '[') + std::string(20'000, ']') + "}";
  std::string dotted = "a";
  for (int i = 0; i < 40'000; ++i)
    dotted += ".a";
  dotted += " = 1\n";
  write(bench.dir / "kit/kit.json", deep);
  write(bench.dir / "images/extract.json", deep);
  for (const char* name : {"parts/parts.toml", "d.toml"})
    write(bench.dir / name, dotted);
  const std::vector<std::vector<std::string>> calls{
      {"check", "kit"},
      {"prepare", "ota.zip", "--like", "kit", "-o", "k"},
      {"draw", "kit", "--figure", "super", "-o", "x.svg"},
      {"extract", "ota.zip", "dtbo", "-o", "images"},
      {"prepare", "images", "-r", "r.toml", "-o", "k"},
      {"repack", "parts", "-o", "x.img"},
      {"patch", "init_boot.img", "-r", "d.toml", "-o", "x.img"},
      {"recipes", "--check", "d.toml"},
      {"batch", "d.toml"},
      {"sheet", "--over", "d.toml"},
      {"prepare", "ota.zip", "-r", "r.toml", "--sheet", "d.toml", "-o", "k"},
      {"inspect", "ota.zip", "--config", "d.toml"},
  };
  for (const auto& call : calls) {
    CAPTURE(call[0]);
    const Ran ran = program(bench.dir, call);
    CAPTURE(ran.err);
    CHECK(ran.exit_code > 0);
    CHECK(ran.exit_code <= 5);
    CHECK_FALSE((ran.out + ran.err).empty());
  }
  CHECK_FALSE(fs::exists(bench.dir / "k"));
}

TEST_CASE("extract.json of another form is an answer, not an abort") {
  const Bench bench;
  fs::create_directory(bench.dir / "out");
  for (const char* text :
       {"{\"format\": \"1\"}", "{}", "[]", "{\"format\": 1, \"partitions\": 3}", "x", ""}) {
    CAPTURE(text);
    write(bench.dir / "out/extract.json", text);
    const Ran ran = program(bench.dir, {"extract", "ota.zip", "boot", "-o", "out"});
    CHECK(ran.exit_code == (*text == '\0' ? 0 : 5));
  }
}

TEST_CASE("repack: a ramdisk of two joined lz4 streams keeps all of its entries, and the new one") {
  const TempDir dir;
  // Two archives of nine MiB: each stream has a short block in the middle of the ramdisk.
  const auto half = [](const std::string& name, std::uint32_t seed) {
    return CpioBytes{}
        .file(name, noise(4u << 20, seed) + std::string(5u << 20, 'x'))
        .entry("init-" + name, "x", 0100755, 0, 1)
        .done();
  };
  const std::string ramdisk = lz4_legacy(half("one", 1)) + lz4_legacy(half("two", 2));
  write(dir / "boot.img", BootBytes{.version = 2,
                                    .kernel = arm64_kernel("5.10.1"),
                                    .ramdisk = ramdisk,
                                    .dtb = device_tree("x", "y")}
                              .done());
  REQUIRE(program(dir, {"unpack", "boot.img", "-o", "parts"}).exit_code == 0);
  write(dir / "parts/tree/new-file", "hello");
  REQUIRE(program(dir, {"repack", "parts", "-o", "new.img"}).exit_code == 0);
  REQUIRE(program(dir, {"unpack", "new.img", "-o", "again"}).exit_code == 0);
  for (const char* name : {"one", "two", "init-one", "init-two"}) {
    CAPTURE(name);
    CHECK(read(dir / (std::string("again/tree/") + name)) ==
          read(dir / (std::string("parts/tree/") + name)));
  }
  CHECK(read(dir / "again/tree/new-file") == "hello");
}

TEST_CASE("standard output that is full or closed gives its reason and exit code 5") {
  const Bench bench;
  for (const std::string to : {"> /dev/full", ">&-"}) {
    for (const std::string form : {"", "--json"}) {
      CAPTURE(to);
      const Ran ran = in_shell(bench.dir, kWexlo + "inspect ota.zip " + form + " " + to);
      CHECK(ran.exit_code == 5);
      CHECK(ran.err.find("standard output") != std::string::npos);
    }
  }
  // A file that is opened next does not get the closed stream's number.
  const Ran ran = in_shell(bench.dir, kWexlo + "extract ota.zip boot -o out >&-");
  CHECK(ran.exit_code == 5);
  if (fs::exists(bench.dir / "out/boot.img"))
    CHECK(read(bench.dir / "out/boot.img") == bench.images.at("boot"));
}

TEST_CASE("few file descriptors, no more threads, a limit on file sizes: errors, no leftover") {
  const Bench bench;
  const auto before = bench.dir.names();
  // Fewer than that, and the program's libraries do not load.
  for (const int most : {8, 9, 10, 12}) {
    CAPTURE(most);
    const Ran ran = in_shell(bench.dir, "ulimit -n " + std::to_string(most) + "; " + kWexlo +
                                            "prepare ota.zip -r r.toml -o kit");
    CHECK(ran.exit_code < 7);
    if (ran.exit_code != 0) CHECK(bench.dir.names() == before);
    fs::remove_all(bench.dir / "kit");
  }
  for (const char* call :
       {"extract ota.zip --all -o out", "prepare ota.zip -r r.toml -o kit", "demo small"}) {
    CAPTURE(call);
    const Ran ran = in_shell(bench.dir, "ulimit -f 100; " + kWexlo + call);
    CHECK(ran.exit_code == 5);
    CHECK(bench.dir.names() == before);
  }
}

TEST_CASE("out of memory is the machine's: exit code 5, with what was asked for" *
          doctest::skip(kWatched)) {
  const Bench bench;
  write(bench.dir / "big.img",
        BootBytes{.kernel = std::string(120u << 20, 'k'), .ramdisk = init_ramdisk()}.done());
  const Ran ran = in_shell(bench.dir, "ulimit -v 150000; " + kWexlo + "inspect big.img --jobs 1");
  CHECK(ran.exit_code == 5);
  CHECK(ran.err.find("memory") != std::string::npos);
}

TEST_CASE("a bound that is no size is a wrong call") {
  const Bench bench;
  for (const char* bound : {"-1", "0", "x", "1Q", "", "99999999999999999999"}) {
    CAPTURE(bound);
    CHECK(program(bench.dir, {"inspect", "ota.zip", "--limit", bound}).exit_code == 2);
  }
  for (const char* bound : {"1G", "512M", "2gib", "100000000"})
    CHECK(program(bench.dir, {"inspect", "ota.zip", "--limit", bound}).exit_code == 0);
}

TEST_CASE("escape sequences from names and texts never reach the terminal") {
  const TempDir dir;
  const std::string evil = "\x1b]0;owned\x07\x1b[31m";
  const std::string image =
      BootBytes{
          .version = 2,
          .kernel = arm64_kernel("5.10.1"),
          .ramdisk = gzip(
              CpioBytes{}.file("fstab." + evil, "x\n").entry("init", evil, 0100755, 0, 1).done()),
          .dtb = device_tree("Tarn" + evil, "y"),
          .cmdline = "x=" + evil,
          .name = "n\x1b[1m"}
          .done();
  write(dir / "boot.img", image);
  write(dir / ("a" + evil + ".img"), image);
  write(dir / "evil.zip", zip({{"boot.img", image},
                               {"vendor" + evil + ".img", "xxxx"},
                               {"android-info.txt", "require board=" + evil + "\n"}}));
  write(dir / "r.toml",
        "format = 1\nname = \"t\"\n[[edit]]\nkind = \"cmdline\"\nset = [\"quiet\"]\n");
  write(dir / "s.toml",
        "[phone]\ncodename = \"a\\u001B[31mb\"\n[access]\nnotes = \"\\u001B[2J\"\n");
  const std::vector<std::vector<std::string>> calls{
      {"inspect", "boot.img"},
      {"inspect", "boot.img", "--verbose"},
      {"inspect", "a" + evil + ".img"},
      {"inspect", "evil.zip"},
      {"inspect", "."},
      {"extract", "evil.zip", "--all", "-o", "out"},
      {"check", "boot.img"},
      {"check", "evil.zip"},
      {"compare", "boot.img", "evil.zip"},
      {"unpack", "boot.img", "-o", "parts"},
      {"patch", "boot.img", "-r", "r.toml", "--dry-run"},
      {"prepare", "evil.zip", "-r", "r.toml", "--sheet", "s.toml", "-o", "kit"},
      {"prepare", "evil.zip", "-r", "r.toml", "-o", "kit2"},
  };
  for (const auto& call : calls) {
    CAPTURE(call[0]);
    const Ran ran = program(dir, call);
    CHECK((ran.out + ran.err).find('\x1b') == std::string::npos);
    CHECK((ran.out + ran.err).find('\x07') == std::string::npos);
    // With colours, nothing but colours: those of files are told as text.
    auto coloured = call;
    coloured.insert(coloured.end(), {"--color", "always", "--force"});
    if (call[0] == "inspect" || call[0] == "check" || call[0] == "compare") coloured.pop_back();
    const Ran again = program(dir, coloured);
    CHECK((again.out + again.err).find("\x1b]") == std::string::npos);
    CHECK((again.out + again.err).find("\x1b[31m") == std::string::npos);
  }
  for (const char* kit : {"kit", "kit2"})
    if (fs::exists(dir / kit))
      CHECK(read(dir / (std::string(kit) + "/plan.txt")).find('\x1b') == std::string::npos);
}

TEST_CASE("a sparse image of some bytes does not fill the disk, zeros stay holes") {
  const TempDir dir;
  write(dir / "huge.img", SparseBytes{}.skip((std::uint32_t{40} << 30 >> 12)).done());
  SparseBytes fill{.block = 4096};
  fill.fill(600'000, "abcd");
  write(dir / "fill.img", fill.done());
  SparseBytes zeros{.block = 4096};
  zeros.fill(600'000, std::string(4, '\0'));
  write(dir / "zeros.img", zeros.done());
  SparseBytes more{.block = 1u << 20};
  more.skip(40'000);
  write(dir / "more.img", more.done());
  for (const char* name : {"fill.img", "more.img"}) {
    CAPTURE(name);
    const Json said = program_json(dir, {"extract", name, "-o", "out"}, 3);
    CHECK(said["error"]["code"] == "limit-exceeded");
    CHECK(said["error"]["hint"].get<std::string>().find("--limit") != std::string::npos);
  }
  CHECK_FALSE(fs::exists(dir / "out"));
  REQUIRE(program(dir, {"extract", "zeros.img", "-o", "out"}).exit_code == 0);
  struct stat info {};
  REQUIRE(::stat((dir / "out/zeros.img").c_str(), &info) == 0);
  CHECK(info.st_size == std::int64_t{600'000} * 4096);
  CHECK(info.st_blocks < 100);
}

TEST_CASE("ramdisks of one image are bounded together") {
  const TempDir dir;
  // Each fragment is within the bound of one, all of them together are gigabytes.
  VendorBootBytes image{.version = 4};
  const std::string one =
      lz4_legacy(CpioBytes{}.file("x", noise(4u << 20) + std::string(100u << 20, 'x')).done());
  for (int i = 0; i < 8; ++i)
    image.named.push_back({"f" + std::to_string(i), 1, one});
  write(dir / "vendor_boot.img", image.done());
  const Ran ran =
      in_shell(dir, "ulimit -v 1500000; " + kWexlo + "inspect vendor_boot.img --jobs 2");
  CHECK(ran.exit_code < 7);
  CHECK((ran.out + ran.err).find("not enough memory") == std::string::npos);
}

TEST_CASE("every wait ends at the first signal" * doctest::skip(kWatched)) {
  const Bench bench;
  REQUIRE(::mkfifo((bench.dir / "pipe").c_str(), 0600) == 0);
  write(bench.dir / "signer", "#!/bin/sh\nexec >&-\nsleep 60\n");
  ::chmod((bench.dir / "signer").c_str(), 0755);
  REQUIRE(program(bench.dir, {"keys", "new", "k.pem", "--bits", "2048", "-o", "k.bin"}).exit_code ==
          0);
  write(bench.dir / "init_boot.img", bench.images.at("init_boot"));
  const std::vector<std::string> lines{
      "keys new long.pem --bits 8192",
      "sheet --props - < pipe",
      "seal init_boot.img --key k.bin --signer ./signer -o out",
  };
  for (const std::string& line : lines)
    for (const std::string name : {"INT", "TERM"}) {
      CAPTURE(line);
      // Killed where it does not end by itself. Somebody holds the pipe open and writes nothing.
      const Ran ran = in_shell(bench.dir, "exec 3<>pipe; timeout --preserve-status -s " + name +
                                              " -k 20 0.3 " + kWexlo + line);
      CHECK((ran.exit_code == 130 || ran.exit_code == 0));
    }
  CHECK(program_json(bench.dir, {"inspect", "pipe"}, 5)["error"]["code"] == "io");
}

TEST_CASE("demo: stopped or out of room, it leaves no half-made folder" * doctest::skip(kWatched)) {
  const TempDir dir;
  const Ran ran = in_shell(dir, "timeout --preserve-status -s INT 1 " + kWexlo + "demo made");
  if (ran.exit_code != 0) CHECK(dir.names().empty());
}

TEST_CASE("what comes back from the disk otherwise than it was written is no output" *
          doctest::skip(kWatched)) {
  const Bench bench;
  write(bench.dir / "system.img", file_system(2 * kMiB, "ro.z=1\n"));
  write(bench.dir / "sheet.toml", Bench::sheet("[super]\nsize = 8388608\n"));
  write(bench.dir / "init_boot.img", bench.images.at("init_boot"));
  write(bench.dir / "fw/boot.img", bench.images.at("boot"));
  REQUIRE(program(bench.dir, {"keys", "new", "k.pem", "--bits", "2048"}).exit_code == 0);
  const std::string kit =
      "prepare ota.zip -r r.toml --sheet sheet.toml --with system=system.img --wipe --accept "
      "not-vouched-system -o out";
  const Ran sound = in_shell(bench.dir, kWexlo + kit);
  REQUIRE_MESSAGE(sound.exit_code == 0, sound.err);
  std::vector<std::pair<std::string, std::string>> cases;
  for (const std::string& name : files_of(bench.dir / "out"))
    cases.emplace_back(kit, name);
  CHECK(cases.size() > 10);
  fs::remove_all(bench.dir / "out");
  cases.emplace_back("seal system=system.img --partition-size system=3M -o out", "system.img");
  cases.emplace_back("seal init_boot.img --key k.pem -o out", "init_boot.img");
  cases.emplace_back("insert fw boot=fw/boot.img -o out", "boot.img");
  const auto before = bench.dir.names();
  for (const auto& [call, file] : cases) {
    CAPTURE(call);
    CAPTURE(file);
    const Ran ran =
        in_shell(bench.dir, "WEXLO_DISTURB='" + fs::path(file).filename().string() +
                                "' LD_PRELOAD='" + WEXLO_DISTURB + "' " + kWexlo + call);
    CAPTURE(ran.err);
    CHECK(ran.exit_code != 0);
    CHECK(ran.exit_code < 6);
    CHECK(bench.dir.names() == before);
    fs::remove_all(bench.dir / "out");
  }
}

TEST_CASE("check KIT compares sizes, too") {
  const Bench bench;
  REQUIRE(bench.prepare({"-r", "r.toml"})["ok"] == true);
  const std::string was = read(bench.dir / "kit/kit.json");
  Json manifest = Json::parse(was);
  manifest["images"][0]["flash"]["size"] = manifest["images"][0]["flash"]["size"].get<int>() + 1;
  const std::string now = manifest.dump(2);
  write(bench.dir / "kit/kit.json", now);
  std::string digests = read(bench.dir / "kit/digests.txt");
  const std::string old_sum = hex_of(sha256(was));
  REQUIRE(digests.find(old_sum) != digests.npos);
  digests.replace(digests.find(old_sum), old_sum.size(), hex_of(sha256(now)));
  write(bench.dir / "kit/digests.txt", digests);
  const Ran ran = program(bench.dir, {"check", "kit", "--json"});
  CHECK(ran.exit_code == 1);
  CHECK(says(Json::parse(ran.out), "problem:kit-file"));
}

TEST_CASE(
    "a payload of some KB that claims gigabytes costs what is in it, and needs --limit for more") {
  const TempDir dir;
  // Zeros alone: an operation of a few bytes gives any number of them.
  const auto claims = [&](std::uint32_t gigabytes) {
    PayloadBytes payload;
    const std::uint64_t blocks = std::uint64_t{gigabytes} << 30 >> 12;
    payload.partitions.push_back({.name = "system",
                                  .image = "",
                                  .operations = {{.type = 6, .data = "", .blocks = blocks}},
                                  .size = blocks * 4096,
                                  .sha256 = ""});
    return payload.done();
  };
  write(dir / "four.bin", claims(4));
  REQUIRE(program(dir, {"extract", "four.bin", "system", "-o", "out"}).exit_code == 0);
  struct stat info {};
  REQUIRE(::stat((dir / "out/system.img").c_str(), &info) == 0);
  CHECK(info.st_size == std::int64_t{4} << 30);
  CHECK(info.st_blocks < 100);
  write(dir / "more.bin", claims(40));
  const Json said = program_json(dir, {"extract", "more.bin", "system", "-o", "o"}, 3);
  CHECK(said["error"]["code"] == "limit-exceeded");
  CHECK(said["error"]["hint"].get<std::string>().find("--limit") != std::string::npos);
  CHECK_FALSE(fs::exists(dir / "o"));
  CHECK(program(dir, {"extract", "more.bin", "system", "-o", "o", "--limit", "64G"}).exit_code ==
        0);
}

TEST_CASE("settings of another type or an extreme number: an error with its line, no abort") {
  const Bench bench;
  const std::string long_text(100'000, 'a');
  for (const std::string& value :
       {std::string("\"x\""), std::string("-1"), std::string("0"), std::string("1e300"),
        std::string("9223372036854775807"), std::string("true"), std::string("[]"),
        std::string("{}"), std::string("2026-09-05"), "\"" + long_text + "\""}) {
    CAPTURE(value.substr(0, 40));
    write(bench.dir / "s.toml", "\njobs = " + value + "\n");
    const Json said = program_json(bench.dir, {"inspect", "ota.zip", "--config", "s.toml"}, 3);
    CHECK(said["error"]["file"] == "s.toml");
    CHECK(said["error"]["message"].get<std::string>().find("line 2") != std::string::npos);
  }
  for (const std::string line : {"jobs = 1\njob = 2\n", "a.b = 1\n", "[jobs]\nx = 1\n"}) {
    write(bench.dir / "s.toml", line);
    CHECK(program(bench.dir, {"inspect", "ota.zip", "--config", "s.toml"}).exit_code == 3);
  }
}

TEST_CASE("a super group whose name is no UTF-8 ends in whole documents, not in an abort") {
  const Bench bench;
  SuperBytes super;
  super.partitions = {{"system_a", {{16, 600}}}};
  super.group = "kor\xff\xfe\x80vale";
  for (const char* name : {"boot", "init_boot", "vendor_boot", "vbmeta"})
    write(bench.dir / (std::string("fw/") + name + ".img"), bench.images.at(name));
  write(bench.dir / "fw/super.img", super.done());
  check_sane(bench.dir, {"inspect", "fw/super.img", "--json"});
  check_sane(bench.dir, {"draw", "fw/super.img", "-o", "x.svg", "--json"});
  check_sane(bench.dir, {"extract", "fw", "--all", "-o", "out", "--json"});
  const Json made = program_json(bench.dir, {"prepare", "fw", "-r", "r.toml", "-o", "kit"});
  CHECK(made["ok"] == true);
  CHECK(Json::accept(read(bench.dir / "kit/kit.json")));
  CHECK(program(bench.dir, {"check", "kit"}).exit_code == 0);
  check_sane(bench.dir, {"draw", "kit", "--figure", "super", "-o", "y.svg", "--json"});
  check_sane(bench.dir, {"prepare", "fw", "--like", "kit", "--dry-run", "--json"});
}

TEST_CASE("what does not read of a package is an error or a finding, never passed over") {
  const Bench bench;
  const auto with_damaged = [&](const std::string& damaged) {
    PayloadBytes payload;
    for (const char* name : {"boot", "init_boot", "vendor_boot", "vbmeta"}) {
      payload.partitions.push_back(partition_of(name, bench.images.at(name), 1, 64));
      if (name == damaged) payload.partitions.back().operations[0].sha256 = std::string(32, 'x');
    }
    return zip({{"META-INF/com/android/metadata",
                 std::string("post-build=") + kBuild +
                     "\npre-device=gnomon\npost-security-patch-level=2026-09-05\n"},
                {"payload.bin", payload.done()}});
  };
  write(bench.dir / "chain.zip", with_damaged("vbmeta"));
  write(bench.dir / "init.zip", with_damaged("init_boot"));
  const Json chain = program_json(bench.dir, {"inspect", "chain.zip"});
  CHECK(says(chain, "warning:unreadable-chain"));
  for (const char* package : {"chain.zip", "init.zip"})
    for (const char* more : {"--dry-run", "--verbose"}) {
      CAPTURE(package);
      const Ran ran = program(bench.dir, {"prepare", package, "-r", "r.toml", "--sheet",
                                          "sheet.toml", "-o", "kit", "--json", more});
      CAPTURE(ran.out);
      // Not boot instead of an init_boot that is damaged.
      CHECK(ran.exit_code == 3);
      CHECK_FALSE(fs::exists(bench.dir / "kit"));
    }
  // In a folder, too.
  write(bench.dir / "fw/init_boot.img", bench.images.at("init_boot").substr(0, 4200));
  write(bench.dir / "fw/boot.img", bench.images.at("boot"));
  CHECK(program(bench.dir, {"prepare", "fw", "-r", "r.toml", "-o", "kit"}).exit_code == 3);
}

TEST_CASE("batch: its progress counts kits, not bytes") {
  const Bench bench;
  std::string jobs;
  for (const char* kit : {"one", "two", "three"})
    jobs += std::string("[[job]]\nfirmware = \"ota.zip\"\nrecipes = [\"r.toml\"]\nkit = \"") + kit +
            "\"\n";
  write(bench.dir / "jobs.toml", jobs);
  int terminal = -1;
  const pid_t child = ::forkpty(&terminal, nullptr, nullptr, nullptr);
  if (child == 0) {
    if (::chdir(bench.dir.path().c_str()) != 0) ::_exit(1);
    ::execl(WEXLO_PROGRAM, WEXLO_PROGRAM, "batch", "jobs.toml", "--no-cache", nullptr);
    ::_exit(127);
  }
  std::string shown;
  char piece[4096];
  for (ssize_t got = 0; (got = ::read(terminal, piece, sizeof piece)) > 0;)
    shown.append(piece, static_cast<std::size_t>(got));
  int status = 0;
  ::waitpid(child, &status, 0);
  ::close(terminal);
  CAPTURE(shown);
  CHECK(WEXITSTATUS(status) == 0);
  CHECK(shown.find("1 of 3 done") != std::string::npos);
  CHECK(shown.find("/s  ") == std::string::npos);
}
