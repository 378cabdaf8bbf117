/// The command that looks for causes: through a kit, through a folder of images, in both forms.

#include "program/bench.hpp"

namespace wexlo::test {
namespace {

std::string first_code(const Json& said) {
  const Json& causes = said["result"]["causes"];
  return causes.empty() ? "" : causes[0]["code"].get<std::string>();
}

}  // namespace

TEST_CASE("diagnose: a kit, what was seen, and what somebody sees") {
  const Bench bench;
  REQUIRE(bench.prepare({"-r", "r.toml", "-r", "flags.toml", "--sheet", "sheet.toml"})["ok"] ==
          true);
  write(bench.dir / "phone.txt", "(bootloader) current-slot:b\n(bootloader) unlocked:yes\n");
  const Json slot =
      program_json(bench.dir, {"diagnose", "kit", "phone.txt", "--symptom", "no-root"});
  CHECK(first_code(slot) == "wrong-slot");
  const Json& cause = slot["result"]["causes"][0];
  CHECK(cause["rank"] == 1);
  CHECK(cause["keeps_data"] == true);
  CHECK(cause["way_back"].get<std::string>().find("wexlo flash kit --phone ADDRESS --back") !=
        std::string::npos);
  CHECK(slot["result"]["kit"] == true);
  CHECK_FALSE(slot["result"]["observed"]["facts"].empty());
  // An older patch level than the sheet says.
  write(bench.dir / "newer.toml",
        "[phone]\ncodename = \"gnomon\"\n[build]\npatch_level = "
        "\"2026-11-05\"\n");
  const Json level = program_json(
      bench.dir, {"diagnose", "kit", "--sheet", "newer.toml", "--symptom", "asks-to-erase"});
  CHECK(first_code(level) == "patch-level");
  // The log of a flash that was cut off.
  const std::string plan = read(bench.dir / "kit/kit.json");
  const Json manifest = Json::parse(plan);
  write(bench.dir / "cut.jsonl",
        "{\"time\":\"2026-11-30T10:00:00Z\",\"event\":\"begin\",\"direction\":\"forward\","
        "\"address\":\"x\",\"serial\":\"S\",\"product\":\"gnomon\",\"plan_sha256\":\"" +
            manifest["plan"]["sha256"].get<std::string>() +
            "\"}\n{\"time\":\"2026-11-30T10:00:01Z\",\"event\":\"slot\",\"slot\":\"a\"}\n"
            "{\"time\":\"2026-11-30T10:00:02Z\",\"event\":\"step-begins\","
            "\"id\":\"write-init_boot-current\"}\n");
  const Json cut = program_json(bench.dir, {"diagnose", "kit", "--log", "cut.jsonl"});
  CHECK(first_code(cut) == "half-written");
  const std::string text =
      program(bench.dir, {"diagnose", "kit", "--log", "cut.jsonl", "--verbose"}).out;
  CHECK(text.find("half-written") != std::string::npos);
  CHECK(text.find("+50") != std::string::npos);
  CHECK(text.find("way back") != std::string::npos);
  CHECK(program(bench.dir, {"diagnose", "kit", "--symptom", "tired"}).exit_code == 2);
  // A kit with a file that is not its own is told.
  write(bench.dir / "kit/flash/init_boot.img", std::string(4096, 'x'));
  CHECK(program(bench.dir, {"diagnose", "kit", "--symptom", "no-root"}).exit_code == 1);
}

TEST_CASE("diagnose: images of somebody else, with and without their firmware") {
  const Bench bench;
  std::filesystem::create_directory(bench.dir / "theirs");
  const std::string image = bench.images.at("init_boot");
  BootBytes other;
  other.ramdisk = lz4_frame(init_ramdisk());
  write(bench.dir / "theirs/init_boot.img", other.done());
  const Json said = program_json(
      bench.dir, {"diagnose", "theirs", "--against", "ota.zip", "--symptom", "loops-at-once"});
  CHECK(first_code(said) == "ramdisk-packing");
  CHECK(said["result"]["kit"] == false);
  CHECK(said["result"]["observed"].is_null());
  CHECK(said["result"]["stock"].size() >= 3);
  CHECK(said["result"]["causes"][0]["way_back"].get<std::string>().find(
            "wexlo prepare ota.zip --stock") != std::string::npos);
  const Json alone =
      program_json(bench.dir, {"diagnose", "theirs/init_boot.img", "--symptom", "loops-at-once"});
  CHECK(alone["result"]["stock"].empty());
  CHECK(first_code(alone) == "ramdisk-packing");
  CHECK(program(bench.dir, {"diagnose", "none.img"}).exit_code == 5);
}

}  // namespace wexlo::test
