/// Phones over USB: the program's own code, with a stand-in for the library (support/usb_standin):
/// the phone at its other end is wexlo-phone.

#include "program/bench.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

std::string folder_of_program() {
  return fs::path(built_program()).parent_path().string();
}

/// Lines of a shell with a phone at $PORT and the stand-in in the library's place.
Ran with_usb(const TempDir& dir, const std::string& phones, const std::string& lines) {
  return shell("rm -rf phone port; " + folder_of_program() +
                   "/wexlo-phone phone --model gnomon-sheet.toml --firmware ota.zip --listen tcp:0 "
                   "--listen tcp:0 "
                   "> port < /dev/null & PID=$!; for i in $(seq 100); do [ $(wc -l < port) -ge 2 ] "
                   "&& break; "
                   "sleep 0.1; done; PORT=$(sed -n 's/.*://;1p' port); PORT2=$(sed -n 's/.*://;2p' "
                   "port); export LD_LIBRARY_PATH=" +
                   folder_of_program() + "/tests/usb WEXLO_USB_PHONES=\"" + phones + "\"; " +
                   lines + "; CODE=$?; kill $PID; exit $CODE",
               dir.path().string());
}

struct UsbBench : Bench {
  UsbBench() {
    write(dir / "gnomon-sheet.toml", sheet());
    REQUIRE(prepare({"-r", "r.toml", "-r", "flags.toml"})["ok"] == true);
  }
};

}  // namespace

TEST_CASE("usb: phones are listed, one that needs rights with the line for udev") {
  const UsbBench bench;
  const std::string wexlo = built_program();
  const Ran ran =
      with_usb(bench.dir, "0:KEYBOARD $PORT:KV7 1:KV8:denied", wexlo + " phones --json");
  CAPTURE(ran.out);
  CAPTURE(ran.err);
  REQUIRE(ran.exit_code == 0);
  const Json phones = Json::parse(ran.out)["result"]["phones"];
  REQUIRE(phones.size() == 2);
  CHECK(phones[0]["serial"] == "SIMULATED1");
  CHECK(phones[0]["product"] == "gnomon");
  CHECK(phones[0]["lock"] == "unlocked");
  CHECK(phones[1]["needs_rights"] == true);
  CHECK(phones[1]["address"] == "USB 1-4.2");
  const Ran shown = with_usb(bench.dir, "1:KV8:denied", wexlo + " phones");
  CHECK(shown.out.contains("SUBSYSTEM==\"usb\""));
  const Ran denied =
      with_usb(bench.dir, "1:KV8:denied", wexlo + " sheet --phone fastboot+usb:// --json");
  CHECK(Json::parse(denied.out)["error"]["code"] == "permission");
  const Ran none =
      with_usb(bench.dir, "0:KEYBOARD", wexlo + " sheet --phone fastboot+usb:// --json");
  CHECK(none.exit_code == 6);
  const Ran two =
      with_usb(bench.dir, "$PORT:KV7 $PORT2:KV9", wexlo + " sheet --phone fastboot+usb:// --json");
  CHECK(Json::parse(two.out)["error"]["code"] == "ambiguous");
}

TEST_CASE("usb: a kit is flashed and taken back, by the phone's serial number") {
  const UsbBench bench;
  const std::string wexlo = built_program();
  const std::string flash = wexlo + " flash kit --phone fastboot+usb://KV9 --hands-done --json";
  const Ran ran = with_usb(
      bench.dir, "1:KV7:denied $PORT:KV9",
      flash + " > done.json && cmp -n 200000 kit/flash/init_boot.img phone/init_boot_a.img && " +
          flash +
          " --back > back.json && cmp kit/stock/init_boot.img phone/init_boot_a.img && "
          "cmp -n 4096 kit/stock/vbmeta.img phone/vbmeta_a.img");
  CAPTURE(ran.out);
  CAPTURE(ran.err);
  CHECK(ran.exit_code == 0);
  CHECK(Json::parse(read(bench.dir / "done.json"))["result"]["state"] == "done");
  CHECK(Json::parse(read(bench.dir / "back.json"))["result"]["state"] == "done");
}
