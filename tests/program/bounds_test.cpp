/// Unbounded trust: what inputs claim costs no more than what is in them, and every wait ends.

#include <sys/stat.h>

#include <filesystem>
#include <functional>

#include "program/shell.hpp"
#include "support/rounds.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

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
          doctest::skip(watched())) {
  const Bench bench;
  write(bench.dir / "big.img",
        BootBytes{.kernel = std::string(120u << 20, 'k'), .ramdisk = init_ramdisk()}.done());
  const Ran ran = in_shell(bench.dir, "ulimit -v 150000; " + kWexlo + "inspect big.img --jobs 1");
  CHECK(ran.exit_code == 5);
  CHECK(ran.err.find("memory") != std::string::npos);
}

TEST_CASE("a packed image of many megabytes is taken out in the memory of a few" *
          doctest::skip(watched())) {
  const Bench bench;
  write(bench.dir / "fw/modem.img.gz", gzip(std::string(500u << 20, '\0'), 1));
  const Ran ran = in_shell(
      bench.dir, "ulimit -v 400000; " + kWexlo + "extract fw modem --jobs 1 --quick -o out");
  CHECK_MESSAGE(ran.exit_code == 0, ran.err);
  CHECK(fs::file_size(bench.dir / "out/modem.img") == 500u << 20);
}

TEST_CASE("a bound that is no size is a wrong call") {
  const Bench bench;
  for (const char* bound : {"-1", "0", "x", "1Q", "", "99999999999999999999"}) {
    CAPTURE(bound);
    CHECK(program(bench.dir, {"inspect", "ota.zip", "--limit", bound}).exit_code == 2);
  }
  for (const char* bound : {"1G", "512M", "2gib", "100000000", "0x10000000"})
    CHECK(program(bench.dir, {"inspect", "ota.zip", "--limit", bound}).exit_code == 0);
  // In a hexadecimal number a B is a digit.
  write(bench.dir / "init_boot.img", bench.images.at("init_boot"));
  const Json said = program_json(
      bench.dir, {"patch", "init_boot.img", "-r", "r.toml", "--dry-run", "--limit", "0x1B"}, 3);
  CHECK(said["error"]["expected"].get<std::string>().find("27 bytes") != std::string::npos);
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

TEST_CASE("ramdisks of one image are bounded together" * doctest::skip(watched())) {
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

TEST_CASE("every wait ends at the first signal" * doctest::skip(watched())) {
  const Bench bench;
  REQUIRE(::mkfifo((bench.dir / "pipe").c_str(), 0600) == 0);
  write(bench.dir / "signer", "#!/bin/sh\nsleep 60\n");
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
