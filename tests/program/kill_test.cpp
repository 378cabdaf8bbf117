/// `prepare` killed at 200 random moments: never a half kit under the final name, inputs untouched.

#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <random>
#include <thread>

#include "job/kit_check.hpp"
#include "program/support.hpp"
#include "support/boot.hpp"
#include "support/patching.hpp"
#include "support/payload.hpp"
#include "support/rounds.hpp"
#include "support/vbmeta.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

using Clock = std::chrono::steady_clock;

struct Bench {
  Bench() {
    const std::string ramdisk =
        lz4_legacy(CpioBytes{}
                       .entry("init", elf("arm64", noise(300000)), 0100750, 0, 1)
                       .file("data", noise(200000, 2))
                       .done());
    PayloadBytes payload;
    payload.partitions = {
        partition_of(
            "boot",
            with_footer(BootBytes{.kernel = arm64_kernel("5.10.1")}.done(), "boot", 1u << 20), 8,
            64),
        partition_of("init_boot",
                     with_footer(BootBytes{.ramdisk = ramdisk}.done(), "init_boot", 2u << 20), 8,
                     64),
        partition_of("vbmeta", padded(vbmeta(property_descriptor("a", "b")), 4096), 0)};
    write(
        dir / "in/ota.zip",
        zip({{"META-INF/com/android/metadata", "post-build=korvale/gnomon/x\npre-device=gnomon\n"},
             {"payload.bin", payload.done()}}));
    write(dir / "in/hello", elf("arm64", "the add-on"));
    write(dir / "in/sheet.toml", "[phone]\ncodename = \"gnomon\"\n");
    write(dir / "in/r.toml",
          "format = 1\nname = \"tests\"\n[[edit]]\nkind = \"put\"\npath = \"init\"\nfrom = "
          "\"hello\"\n"
          "keep_stock = true\n[[edit]]\nkind = \"vbmeta-flags\"\nset = "
          "[\"verification-disabled\"]\n");
  }
  /// A run that is killed after `after`; -1: it was done before.
  int run_and_kill(std::chrono::microseconds after) const {
    const std::string firmware = (dir / "in/ota.zip").string(),
                      recipe = (dir / "in/r.toml").string(),
                      sheet = (dir / "in/sheet.toml").string(), kit = (dir / "kit").string();
    std::fflush(nullptr);
    const pid_t child = ::fork();
    if (child == 0) {
      ::freopen("/dev/null", "w", stderr);
      ::freopen("/dev/null", "w", stdout);
      ::execl(WEXLO_PROGRAM, "wexlo", "prepare", firmware.c_str(), "-r", recipe.c_str(), "--sheet",
              sheet.c_str(), "-o", kit.c_str(), "--force", nullptr);
      ::_exit(127);
    }
    std::this_thread::sleep_for(after);
    ::kill(child, SIGKILL);
    int status = 0;
    ::waitpid(child, &status, 0);
    return WIFEXITED(status) ? WEXITSTATUS(status) : -1;
  }
  [[nodiscard]] std::string inputs() const {
    return shell("cd in && find . -type f | sort | xargs sha256sum", dir.path().string()).out;
  }
  TempDir dir;
};

/// 0: absent, 1: whole; anything else fails the test.
bool is_whole(const fs::path& kit) {
  if (!fs::exists(kit)) return false;
  REQUIRE(fs::exists(kit / "kit.json"));
  const auto state = wexlo::check_kit(kit, {});
  REQUIRE(state);
  CHECK(state->findings.empty());
  CHECK(state->files > 8);
  return true;
}

}  // namespace

TEST_CASE("prepare: killed at 200 random moments: a whole kit or none, inputs as they were") {
  const Bench bench;
  const std::string before = bench.inputs();
  // The quickest of three: another test beside it would make moments that come too late.
  auto once = std::chrono::microseconds::max();
  for (int i = 0; i < 3; ++i) {
    const auto begin = Clock::now();
    REQUIRE(program(bench.dir, {"prepare", "in/ota.zip", "-r", "in/r.toml", "--sheet",
                                "in/sheet.toml", "-o", "kit", "--force"})
                .exit_code == 0);
    once =
        std::min(once, std::chrono::duration_cast<std::chrono::microseconds>(Clock::now() - begin));
  }
  REQUIRE(is_whole(bench.dir / "kit"));
  const std::string wanted = read(bench.dir / "kit/digests.txt");
  Random random(17);
  int whole = 0, absent = 0, killed = 0;
  constexpr int kRounds = rounds(200);
  for (int round = 0; round < kRounds; ++round) {
    // Every second time over a kit that is there: then one is there at any moment.
    const bool over = round % 2 == 1;
    if (!over) fs::remove_all(bench.dir / "kit");
    const bool there = fs::exists(bench.dir / "kit");
    const std::chrono::microseconds after(random() % static_cast<unsigned>(once.count() * 5 / 4));
    const int ended = bench.run_and_kill(after);
    CAPTURE(round);
    CAPTURE(after.count());
    killed += ended < 0 ? 1 : 0;
    if (ended >= 0) CHECK(ended == 0);
    const bool now = is_whole(bench.dir / "kit");
    if (now) CHECK(read(bench.dir / "kit/digests.txt") == wanted);
    if (there || ended == 0) CHECK(now);
    ++(now ? whole : absent);
  }
  CHECK(bench.inputs() == before);
  // Moments before, while and after it was done have to be among them.
  CHECK(killed > kRounds * 3 / 10);
  CHECK(whole > kRounds / 10);
  CHECK(absent > kRounds / 10);
  // What the killed ones left is gone with the next that is done.
  REQUIRE(program(bench.dir, {"prepare", "in/ota.zip", "-r", "in/r.toml", "--sheet",
                              "in/sheet.toml", "-o", "kit", "--force"})
              .exit_code == 0);
  std::vector<std::string> left;
  for (const auto& entry : fs::directory_iterator(bench.dir.path()))
    left.push_back(entry.path().filename().string());
  std::ranges::sort(left);
  CHECK(left == std::vector<std::string>{"in", "kit"});
}
