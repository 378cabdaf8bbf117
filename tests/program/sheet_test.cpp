/// Sheets, from what is pasted and from what a bootloader tells.

#include "phone/fastboot/link.hpp"
#include "program/bench.hpp"
#include "support/wire_phone.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

TEST_CASE("sheet: from properties to a file that prepare takes") {
  const Bench bench;
  write(bench.dir / "props.txt", "[ro.product.device]: [gnomon]\n[ro.build.fingerprint]: [" +
                                     std::string(kBuild) +
                                     "]\n(bootloader) partition-size:init_boot_a: 0x40000\n");
  write(bench.dir / "notes.toml", "[access]\nrecovery = \"both\"\n");
  const Json made = program_json(
      bench.dir, {"sheet", "--props", "props.txt", "--over", "notes.toml", "-o", "made.toml"});
  CHECK(made["result"]["facts"]["phone.codename"]["value"] == "gnomon");
  CHECK(made["result"]["facts"]["phone.model"].is_null());
  CHECK(made["result"]["partitions"]["init_boot_a"] == 0x40000);
  CHECK(bench.prepare({"-r", "r.toml", "--sheet", "made.toml"})["ok"] == true);
  CHECK(program_json(bench.dir, {"sheet", "--props", "props.txt", "-o", "made.toml"},
                     5)["error"]["code"] == "exists");
  write(bench.dir / "empty.txt", "nothing of use\n");
  CHECK(program_json(bench.dir, {"sheet", "--props", "empty.txt", "-o", "x.toml"},
                     3)["error"]["code"] == "bad-value");
  CHECK(program_json(bench.dir, {"sheet", "-o", "x.toml"}, 2)["error"]["code"] == "usage");
  write(bench.dir / "few.txt", "[ro.product.model]: [Tarn]\n");
  CHECK(says(program_json(bench.dir, {"sheet", "--props", "few.txt"}), "warning:no-device"));
}

TEST_CASE("sheet: a phone at its bootloader tells what it knows, and older notes are kept") {
  const TempDir dir;
  write(dir / "notes.toml", "[phone]\nvariant = \"eu\"\n[access]\nbootloader = \"both keys\"\n");
  std::string address;
  {
    const WirePhone phone(
        wexlo::Wire::Tcp,
        {.variables = {
             {"product", "gnomon"}, {"unlocked", "no"}, {"partition-size:boot_a", "0x4000000"}}});
    address = wexlo::address_text(phone.address());
    const Json got =
        program_json(dir, {"sheet", "--phone", address, "--over", "notes.toml", "-o", "s.toml"});
    const Json& facts = got["result"]["facts"];
    CHECK(facts["phone.product"]["value"] == "gnomon");
    CHECK(facts["phone.product"]["source"] == "product in the bootloader");
    CHECK(facts["phone.variant"]["value"] == "eu");
    CHECK(facts["state.lock"]["value"] == "locked");
    CHECK(got["result"]["partitions"]["boot_a"] == 0x4000000);
    CHECK(read(dir / "s.toml").find("both keys") != std::string::npos);
  }
  const Json gone = program_json(dir, {"sheet", "--phone", address, "-o", "x.toml"}, 6);
  CHECK(gone["error"]["code"] == "link-lost");
  CHECK(gone["error"]["file"] == address);
  CHECK(program_json(dir, {"sheet", "--phone", "bench", "-o", "x.toml"}, 2)["error"]["code"] ==
        "usage");
  CHECK(program_json(dir, {"sheet", "--phone", "bridge+usb://", "-o", "x.toml"},
                     4)["error"]["code"] == "unsupported");
  CHECK_FALSE(fs::exists(dir / "x.toml"));
}
