/// The demo's other phones, and the update from one build to the next.

#include "program/support.hpp"
#include "support/rounds.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

TEST_CASE("demo --all: the other phones' packages and the update between builds" *
          doctest::skip(watched())) {
  const TempDir dir;
  const Ran ran = program(dir, {"demo", "demo", "--all"});
  REQUIRE_MESSAGE(ran.exit_code == 0, ran.err);
  CHECK(read(dir / "demo/images/init_boot.img") == read(dir / "demo/images-updated/init_boot.img"));
  CHECK(shell("md5sum -c /dev/stdin <<< \"$(tail -c 70 demo/plumbline-home.tar.md5 | tr -d '\\0' | "
              "tail -1)\" 2>&1; "
              "tar -tf demo/plumbline-home.tar.md5",
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
