/// Packages of makers' kinds at the program's door: what comes out of them, for which phone, and
/// what is refused.

#include "program/bench.hpp"
#include "support/packages.hpp"
#include "support/signed_set.hpp"
#include "support/vbmeta.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

TEST_CASE(
    "doors: a split boot image in a record container: its ramdisk is patched, for its phone") {
  const Bench bench;
  const std::string package = record_container(
      {{.name = "KERNEL",
        .data = BootBytes{.version = 1, .page = 2048, .kernel = arm64_kernel("4.14.1")}.done()},
       {.name = "RAMDISK",
        .data = BootBytes{.version = 1, .page = 2048, .ramdisk = gzip(init_ramdisk())}.done()}});
  write(bench.dir / "UPDATE.APP", package);
  write(bench.dir / "update.zip", zip({{"dload/UPDATE.APP", package, true}}));
  for (const char* firmware : {"UPDATE.APP", "update.zip"}) {
    const Json done = program_json(
        bench.dir, {"prepare", firmware, "-r", "r.toml", "-o", std::string("kit-") + firmware});
    CHECK(done["result"]["target"] == "ramdisk");
    CHECK(fs::exists(bench.dir / (std::string("kit-") + firmware) / "flash/ramdisk.img"));
  }
  const Json taken = program_json(bench.dir, {"extract", "UPDATE.APP", "-o", "x"});
  CHECK(taken["result"]["partitions"].size() == 2);
  for (const Json& one : taken["result"]["partitions"])
    CHECK(one["verified"] == true);
  write(bench.dir / "other.toml", "[phone]\narchitecture = \"x86_64\"\n");
  CHECK(program_json(bench.dir,
                     {"prepare", "UPDATE.APP", "-r", "r.toml", "--sheet", "other.toml", "-o", "no"},
                     1)["error"]["found"] == "architecture");
  std::string damaged = package;
  damaged[damaged.size() - 3000] ^= 1;
  write(bench.dir / "bad.app", damaged);
  CHECK(program(bench.dir, {"extract", "bad.app", "ramdisk", "-o", "y"}).exit_code == 3);
  CHECK_FALSE(fs::exists(bench.dir / "y"));
  CHECK(
      program(bench.dir, {"insert", "UPDATE.APP", "ramdisk=x/ramdisk.img", "-o", "z"}).exit_code ==
      4);
}

TEST_CASE("doors: a download-mode set is held against the phone's model and bootloader") {
  const Bench bench;
  const std::string boot =
      BootBytes{.version = 1, .kernel = arm64_kernel("4.14.1"), .ramdisk = gzip(init_ramdisk())}
          .done();
  write(bench.dir / "AP_KV730BXXU5CZK1_X.tar.md5", tar({{"boot.img.lz4", lz4_frame(boot)}}));
  const auto with = [&](const std::string& model, const std::string& loader, int code) {
    write(bench.dir / "p.toml",
          "[phone]\nmodel = \"" + model + "\"\n[build]\nbootloader = \"" + loader + "\"\n");
    return program_json(bench.dir,
                        {"prepare", "AP_KV730BXXU5CZK1_X.tar.md5", "-r", "r.toml", "--sheet",
                         "p.toml", "-o", "kit", "--force"},
                        code);
  };
  CHECK(with("Tarn-KV730B", "KV730BXXU5CZJ2", 0)["ok"] == true);
  CHECK(with("Tarn-KV730B", "KV730BXXU6CZL1", 1)["error"]["found"] == "anti-rollback");
  CHECK(with("Tarn-KV900", "KV730BXXU4CZA1", 1)["error"]["found"] == "device");
}

TEST_CASE("doors: what is no firmware, and what is not read, is named with its exit code") {
  const Bench bench;
  write(bench.dir / "photo.img", "\xFF\xD8\xFF\xE0" + noise(4000));
  write(bench.dir / "page.zip", "<!DOCTYPE html><html>Sign in</html>");
  write(bench.dir / "empty.img", "");
  write(bench.dir / "cut.zip", read(bench.dir / "ota.zip").substr(0, 5000));
  write(bench.dir / "locked.bin", "\x4F\x50\x50\x4F\x45\x4E\x43\x52\x59\x50\x54\x21" + noise(4000));
  write(bench.dir / "update.img", "RKFW" + noise(4000));
  const std::pair<const char*, int> rows[] = {{"photo.img", 3},  {"page.zip", 3},
                                              {"empty.img", 3},  {"cut.zip", 3},
                                              {"locked.bin", 4}, {"update.img", 4}};
  for (const auto& [file, code] : rows) {
    CAPTURE(std::string(file));
    const auto before = bench.dir.names();
    CHECK(program(bench.dir, {"extract", file, "--all", "-o", "x"}).exit_code == code);
    CHECK(program(bench.dir, {"prepare", file, "-r", "r.toml", "-o", "x"}).exit_code == code);
    CHECK(program(bench.dir, {"inspect", file}).exit_code == code);
    CHECK(bench.dir.names() == before);
  }
  const Ran ran = program(bench.dir, {"extract", "locked.bin", "-o", "x"});
  CHECK(ran.err.contains("encrypted"));
  CHECK(ran.err.contains("over-the-air package"));
}

TEST_CASE(
    "doors: a folder without a chained partition: the phone's own has to do; --whole is strict") {
  const Bench bench;
  const SignedSet set = signed_set();
  for (const char* name : {"vbmeta", "system"})
    write(bench.dir / "set" / (std::string(name) + ".img"), text(set.images.at(name)));
  const Json seen = program_json(bench.dir, {"check", "set", "--lock-state", "unlocked"});
  CHECK(seen["result"]["unlocked"] == "starts");
  CHECK(std::ranges::any_of(seen["findings"],
                            [](const Json& one) { return one["code"] == "phones-own-boot"; }));
  const Ran ran =
      program(bench.dir, {"--json", "check", "set", "--lock-state", "unlocked", "--whole"});
  CHECK(ran.exit_code == 1);
  const Json strict = Json::parse(ran.out);
  CHECK(strict["result"]["unlocked"] == "refuses");
}

TEST_CASE(
    "doors: verification disabled where the header has no patch level: the data may be lost") {
  const Bench bench;
  const auto warned = [](const Json& done) {
    return std::ranges::any_of(done["findings"],
                               [](const Json& one) { return one["code"] == "data-unreadable"; });
  };
  CHECK_FALSE(warned(bench.prepare({"-r", "r.toml", "-r", "flags.toml"})));
  Bench silent;
  for (const char* name : {"boot", "init_boot"})
    silent.images[name].replace(16, 4, std::string(4, '\0'));
  write(silent.dir / "ota.zip", silent.ota());
  CHECK(warned(silent.prepare({"-r", "r.toml", "-r", "flags.toml"})));
  CHECK(silent.plan()["first"].dump().find("unreadable") != std::string::npos);
  CHECK_FALSE(warned(silent.prepare({"-r", "r.toml"}, 0, "kit2")));
  // Where the stock image's flags are so already nothing gets worse.
  silent.images["vbmeta"].replace(120, 4, be32(3));
  write(silent.dir / "ota.zip", silent.ota());
  CHECK_FALSE(warned(silent.prepare({"-r", "r.toml"}, 0, "kit3")));
}

TEST_CASE("doors: a recipe's program that the kernel's pages are too large for") {
  Bench bench;
  std::string kernel = arm64_kernel("6.6.1");
  kernel.replace(24, 8, le64(4));  // 16 KiB
  bench.images["boot"] = with_footer(BootBytes{.kernel = kernel}.done(), "boot", 1u << 18);
  write(bench.dir / "ota.zip", bench.ota());
  std::string program = elf("arm64", std::string(56, '\0') + noise(100));
  program.replace(32, 8, le64(64));
  program.replace(54, 2, le16(56));
  program.replace(56, 2, le16(1));
  program.replace(64, 4, le32(1));
  program.replace(64 + 48, 8, le64(0x1000));
  write(bench.dir / "hello", program);
  CHECK(bench.prepare({"-r", "r.toml"}, 1, "kit")["error"]["found"] == "program-pages");
  const std::string narrow = program;
  program.replace(64 + 48, 8, le64(0x10000));
  write(bench.dir / "hello", program);
  CHECK(bench.prepare({"-r", "r.toml"})["ok"] == true);
  // What the stock ramdisk has already is the maker's affair.
  bench.images["init_boot"] = with_footer(
      BootBytes{.ramdisk = lz4_legacy(CpioBytes{}
                                          .folder("bin")
                                          .file("bin/tool", narrow, 0100755)
                                          .file("init", elf("arm64", noise(99)), 0100750)
                                          .done())}
          .done(),
      "init_boot", 1u << 18);
  write(bench.dir / "ota.zip", bench.ota());
  CHECK(bench.prepare({"-r", "r.toml"}, 0, "kit2")["ok"] == true);
}

TEST_CASE("doors: a package in which only other partitions are incremental") {
  const Bench bench;
  const std::string sum(40, 'a');
  write(bench.dir / "older.zip",
        zip({{"boot.img", bench.images.at("boot")},
             {"init_boot.img", bench.images.at("init_boot")},
             {"vendor_boot.img", bench.images.at("vendor_boot")},
             {"system.transfer.list", "4\n1\n0\n0\nmove " + sum + " 2,0,1 1 2,1,2\n"},
             {"system.new.dat", ""}}));
  const Json done = program_json(bench.dir, {"prepare", "older.zip", "-r", "r.toml", "-o", "kit"});
  CHECK(done["result"]["target"] == "init_boot");
  CHECK(std::ranges::any_of(
      done["findings"], [](const Json& one) { return one["code"] == "incremental-part-system"; }));
}

TEST_CASE("doors: odd boot images are patched, checked and taken back like any other") {
  const Bench bench;
  const std::string ramdisk = gzip(init_ramdisk());
  write(bench.dir / "elf.img",
        ElfBytes{.kernel = arm64_kernel("3.10.1"), .ramdisk = ramdisk, .gap = 1u << 16}.done());
  write(bench.dir / "shifted.img", shifted_boot(arm64_kernel("3.10.1"), ramdisk));
  for (const std::string name : {"elf", "shifted"}) {
    CAPTURE(name);
    const Json done = program_json(
        bench.dir, {"patch", name + ".img", "-r", "r.toml", "-o", name + "-patched.img"});
    CHECK(done["result"]["changed"] == true);
    CHECK(program(bench.dir, {"restore", name + "-patched.img", "-o", name + "-stock.img"})
              .exit_code == 0);
    CHECK(read(bench.dir / (name + "-stock.img")) == read(bench.dir / (name + ".img")));
    REQUIRE(program(bench.dir, {"unpack", name + ".img", "-o", name}).exit_code == 0);
    REQUIRE(program(bench.dir, {"repack", name, "-o", name + "-again.img"}).exit_code == 0);
    CHECK(read(bench.dir / (name + "-again.img")) == read(bench.dir / (name + ".img")));
    write(bench.dir / name / "tree/note", "new");
    CHECK(program(bench.dir, {"repack", name, "-o", name + "-edited.img"}).exit_code == 0);
  }
}

TEST_CASE("doors: without a vbmeta partition the flags are those of boot's own struct") {
  const Bench bench;
  const std::string image =
      BootBytes{.version = 1, .kernel = arm64_kernel("4.14.1"), .ramdisk = gzip(init_ramdisk())}
          .done();
  const std::string stock = with_footer(image, "boot", 1u << 20);
  write(bench.dir / "set/boot.img", stock);
  for (const bool with_ramdisk : {true, false}) {
    CAPTURE(with_ramdisk);
    std::vector<std::string> words{"prepare", "set", "-r",     "@verification-off",
                                   "-o",      "kit", "--force"};
    if (with_ramdisk) words.insert(words.begin() + 2, {"-r", "r.toml"});
    const Json done = program_json(bench.dir, words);
    REQUIRE(done["result"]["images"].size() == 1);
    const Json seen =
        program_json(bench.dir, {"inspect", "kit/flash/boot.img"})["result"]["items"][0]["image"];
    CHECK(seen["footer"]["vbmeta"]["flags"] == 3);
    CHECK(seen["footer"]["digest_matches"] == true);
    const Json judged = program_json(bench.dir, {"check", "kit", "--lock-state", "unlocked"});
    CHECK(judged["result"]["unlocked"] == "starts");
    program_json(bench.dir, {"restore", "kit/flash/boot.img", "-o", "back.img", "--force"});
    CHECK(read(bench.dir / "back.img") == stock);
  }
  // Without a footer there is nothing that could hold them.
  write(bench.dir / "bare/boot.img", image);
  const Ran none = program(bench.dir, {"prepare", "bare", "-r", "@verification-off", "-o", "no"});
  CHECK(none.exit_code == 1);
  CHECK(none.err.contains("does not have"));
}
