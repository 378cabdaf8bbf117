/// The demo's firmware, and what general tools say of what Wexlo wrote.

#include <csignal>
#include <thread>

#include <sys/wait.h>
#include <unistd.h>

#include "program/support.hpp"
#include "support/rounds.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

/// Made once for all tests of this file: the other phones, too, but for the sanitizers' build,
/// where that would take minutes.
const TempDir& demo() {
  static const TempDir dir;
  static const bool made = [] {
    std::vector<std::string> words{"demo", "demo"};
    if (!watched()) words.emplace_back("--all");
    const Ran ran = program(dir, words);
    REQUIRE_MESSAGE(ran.exit_code == 0, ran.err);
    const Ran all = program(dir, {"extract", "demo/gnomon-ota.zip", "--all", "-o", "all"});
    REQUIRE_MESSAGE(all.exit_code == 0, all.err);
    return true;
  }();
  static_cast<void>(made);
  return dir;
}

Ran judge(const std::string& line) {
  return shell(line, demo().path().string());
}

/// What the system says of a `prepare` that gets a signal some time after its start.
int prepare_with(int number, int milliseconds, const fs::path& kit) {
  const std::string firmware = (demo() / "demo/gnomon-ota.zip").string();
  const std::string recipe = (demo() / "demo/add-on/recipe.toml").string();
  // Blocked across the start, so that a signal that comes before the program watches waits for it.
  sigset_t signals;
  sigemptyset(&signals);
  sigaddset(&signals, number);
  sigprocmask(SIG_BLOCK, &signals, nullptr);
  const pid_t child = ::fork();
  if (child == 0) {
    ::freopen("/dev/null", "w", stderr);
    ::execl(built_program().c_str(), "wexlo", "prepare", firmware.c_str(), "-r", recipe.c_str(),
            "-o", kit.c_str(), "--quiet", nullptr);
    ::_exit(127);
  }
  sigprocmask(SIG_UNBLOCK, &signals, nullptr);
  std::this_thread::sleep_for(std::chrono::milliseconds(milliseconds));
  ::kill(child, number);
  int status = 0;
  ::waitpid(child, &status, 0);
  return status;
}

}  // namespace

TEST_CASE("demo --all: the other phones' packages and the update between builds" *
          doctest::skip(watched())) {
  const TempDir& dir = demo();
  CHECK(read(dir / "demo/images/init_boot.img") == read(dir / "demo/images-updated/init_boot.img"));
  CHECK(
      shell(
          "md5sum -c /dev/stdin <<< \"$(tail -c 70 demo/plumbline-download.tar.md5 | tr -d '\\0' | "
          "tail -1)\" 2>&1; "
          "tar -tf demo/plumbline-download.tar.md5",
          dir.path().string())
          .out.find("boot.img.lz4") != std::string::npos);
  CHECK(shell("unzip -tq demo/vernier-factory.zip", dir.path().string()).exit_code == 0);
  const Json vernier =
      program_json(dir, {"inspect", "demo/vernier-factory.zip"})["result"]["items"][0];
  CHECK(vernier["build"]["device"] == "vernier");
  CHECK(vernier["build"]["baseband"] == "KVM-7.1");
  // The wrong build as a base is told as such.
  const Json error = program_json(dir,
                                  {"extract", "demo/gnomon-ota-260805-to-260905.zip", "init_boot",
                                   "--base", "demo/images", "-o", "x"},
                                  3)["error"];
  CHECK(error["hint"].get<std::string>().find("20260805") != std::string::npos);
  CHECK_FALSE(fs::exists(dir / "x"));
}

TEST_CASE("demo: every image of the firmware unpacks, repacks, and is the same bytes" *
          doctest::skip(watched())) {
  int images = 0;
  for (const auto& entry : fs::directory_iterator(demo() / "all")) {
    if (entry.path().extension() != ".img") continue;
    const std::string name = entry.path().stem().string();
    CAPTURE(name);
    CHECK(program(demo(), {"unpack", "all/" + name + ".img", "-o", "parts-" + name}).exit_code ==
          0);
    CHECK(program(demo(), {"repack", "parts-" + name, "-o", name + "-again.img"}).exit_code == 0);
    CHECK(judge("cmp all/" + name + ".img " + name + "-again.img").exit_code == 0);
    ++images;
  }
  CHECK(images == 8);
}

TEST_CASE("demo: cpio lists the patched ramdisk after lz4: the kernel's format, not ours") {
  CHECK(program(demo(), {"unpack", "demo/kit/flash/init_boot.img", "-o", "patched"}).exit_code ==
        0);
  const Ran list = judge("lz4 -dc patched/ramdisk.bin | cpio -itv 2>&1");
  CAPTURE(list.out);
  CHECK(list.exit_code == 0);
  for (const char* place : {" init\n", " wexlo/stock/init\n", " wexlo/journal.toml\n"})
    CHECK(list.out.find(place) != std::string::npos);
  CHECK(list.out.find("-rwxr-x---") != std::string::npos);
  // The kept stock init, taken out by cpio, is the stock one.
  CHECK(judge("mkdir -p out && cd out && lz4 -dc ../patched/ramdisk.bin | cpio -id --quiet "
              "wexlo/stock/init && cmp wexlo/stock/init ../demo/parts/tree/init")
            .exit_code == 0);
}

TEST_CASE("demo: general tools agree with the gzip, xz and bzip2 that a repack writes" *
          doctest::skip(watched())) {
  CHECK(program(demo(), {"unpack", "all/init_boot.img", "-o", "tool"}).exit_code == 0);
  for (const std::string& tool :
       {std::string("gzip -9n"), std::string("xz --check=crc32"), std::string("bzip2")}) {
    CAPTURE(tool);
    const std::string word = tool.substr(0, tool.find(' '));
    // A whole other ramdisk, packed by the tool; then edited, so that Wexlo packs it anew.
    judge("rm -rf tool2 tool3 && cp -r tool tool2 && lz4 -dc tool/ramdisk.bin | " + tool +
          " > tool2/ramdisk.bin && sed -i '/^tree = /d;/^list = /d' tool2/parts.toml");
    CHECK(program(demo(), {"repack", "tool2", "-o", word + ".img"}).exit_code == 0);
    CHECK(program(demo(), {"unpack", word + ".img", "-o", "tool3"}).exit_code == 0);
    write(demo() / "tool3/tree/motd", "hello");
    CHECK(program(demo(), {"repack", "tool3", "-o", word + "2.img", "--force"}).exit_code == 0);
    judge("rm -rf tool4");
    CHECK(program(demo(), {"unpack", word + "2.img", "-o", "tool4"}).exit_code == 0);
    const Ran list = judge(word + " -dc tool4/ramdisk.bin | cpio -it --quiet");
    CHECK(list.exit_code == 0);
    CHECK(list.out.find("motd\n") != std::string::npos);
  }
}

TEST_CASE("demo: the device trees and the signature are what general tools take them for") {
  CHECK(judge("dd if=all/dtbo.img of=one.dtb bs=1 skip=96 count=300 status=none && dtc -q -I dtb "
              "-O dts "
              "one.dtb > one.dts && grep -q 'Korvale Tarn 3 rev A' one.dts")
            .exit_code == 0);
  // Header and auxiliary block are signed; the signature stands behind the hash.
  const Json vbmeta =
      program_json(demo(), {"inspect", "all/vbmeta.img"})["result"]["items"][0]["image"];
  const auto auxiliary = vbmeta["parts"][1];
  CHECK(auxiliary["name"] == "auxiliary");
  const auto cut = [](int offset, int size) {
    return "dd if=all/vbmeta.img bs=1 status=none skip=" + std::to_string(offset) +
           " count=" + std::to_string(size);
  };
  const std::string key = source_folder() + "/demo/keys/korvale-demo.pem";
  CHECK(
      judge("(" + cut(0, 256) + "; " + cut(auxiliary["offset"], auxiliary["size"]) +
            ") > signed && " + cut(256 + 32, 256) + " > signature && openssl rsa -in " + key +
            " -pubout -out key.pub 2>/dev/null && openssl dgst -sha256 -verify key.pub -signature "
            "signature signed")
          .exit_code == 0);
}

TEST_CASE("demo: run again it refuses, and with --force gives the same package and kit") {
  CHECK(program(demo(), {"demo", "demo"}).exit_code == 5);
  judge("cp -r demo/kit kit-before && cp demo/gnomon-ota.zip before.zip");
  const Json document = program_json(demo(), {"demo", "demo", "--force"});
  CHECK(document["result"]["steps"].size() == 18);
  CHECK(document["result"]["steps"][10]["reply"]["result"]["target"] == "init_boot");
  // Times stand in the flash log and the record alone; the report has the record's page.
  CHECK(judge("diff -r --exclude=flash-log.jsonl --exclude=record.toml --exclude=report.html "
              "kit-before demo/kit")
            .exit_code == 0);
  CHECK(program(demo(), {"check", "demo/kit"}).exit_code == 0);
  CHECK(judge("cmp before.zip demo/gnomon-ota.zip").exit_code == 0);
}

TEST_CASE("demo: a program that was started to ignore hang-ups goes on after one") {
  const TempDir dir;
  const auto before = ::signal(SIGHUP, SIG_IGN);
  const int status = prepare_with(SIGHUP, 0, dir / "kit");
  ::signal(SIGHUP, before);
  REQUIRE(WIFEXITED(status));
  CHECK(WEXITSTATUS(status) == 0);
  CHECK(fs::exists(dir / "kit/kit.json"));
}

TEST_CASE("demo: Ctrl-C at any moment leaves neither half a kit nor temporary files") {
  demo();
  for (int milliseconds : {0, 5, 20, 60, 120, 250, 400, 700, 1100, 1600}) {
    const TempDir dir;
    const int status = prepare_with(SIGINT, milliseconds, dir / "kit");
    CAPTURE(milliseconds);
    const bool whole = fs::exists(dir / "kit/kit.json");
    REQUIRE(WIFEXITED(status));
    CHECK(WEXITSTATUS(status) == (whole ? 0 : 130));
    if (whole)
      CHECK(program(dir, {"check", "kit"}).exit_code == 0);
    else
      CHECK(dir.names().empty());
  }
}
