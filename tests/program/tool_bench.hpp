#pragma once
/// A folder with images in it, general tools here, and what has to come out of their packages.

#include "program/support.hpp"
#include "support/boot.hpp"

namespace wexlo::test {

inline std::string boot_image(std::uint32_t seed = 1) {
  return BootBytes{.version = 2, .page = 2048, .kernel = noise(300'000, seed), .ramdisk = gzip("r")}
      .done();
}

/// A folder with images in it, and general tools here.
struct ToolBench {
  TempDir dir;
  std::string boot = boot_image(), dtbo = noise(50'000, 2);
  ToolBench() {
    write(dir / "boot.img", boot);
    write(dir / "dtbo.img", dtbo);
  }
  void tools(const std::string& line) const {
    const Ran ran = shell(line, dir.path().string());
    REQUIRE_MESSAGE(ran.exit_code == 0, ran.err);
  }
  /// Both images come out of it, whole and verified in some way.
  void holds(const std::string& package, const std::string& kind) const {
    CAPTURE(package);
    const Json item = program_json(dir, {"inspect", package})["result"]["items"][0];
    CHECK(item["kind"] == kind);
    const Json document =
        program_json(dir, {"extract", package, "boot", "dtbo", "-o", "out-" + kind, "--force"});
    for (const Json& one : document["result"]["partitions"]) {
      const std::string& wanted = one["name"] == "boot" ? boot : dtbo;
      CHECK(one["sha256"] == hex_of(sha256(wanted)));
      CHECK(one["size"] == wanted.size());
      CHECK(read(dir / one["file"].get<std::string>()) == wanted);
    }
  }
};

}  // namespace wexlo::test
