/// Recipes that name what the phone is, over whole firmware and kits.

#include "program/support.hpp"
#include "support/patching.hpp"
#include "support/small_phone.hpp"

namespace wexlo::test {

TEST_CASE(
    "prepare: edits in init_boot know the kernel of boot, and a kit made like it asks again") {
  const TempDir dir;
  const auto build = [&](const std::string& name, const std::string& release) {
    SmallPhone phone;
    phone.release = phone.built_for = release;
    phone.boot.kernel = arm64_kernel(release);
    std::filesystem::create_directory(dir / name);
    for (const auto& [partition, bytes] : phone.images())
      write(dir / name / (partition + ".img"), bytes);
  };
  build("old", "5.10.157-android13-4-00001");
  build("next", "5.10.199-android13-4-00009");
  build("newer", "5.15.94-android13-8-00001");
  build("plain", "4.14.117-perf");
  write(dir / "tide-android13-5.10.ko", "for 5.10");
  write(dir / "r.toml",
        "format = 1\nname = \"tide\"\n[[edit]]\nkind = \"put\"\npath = \"tide/tide.ko\"\nfrom = "
        "\"tide-${kmi}.ko\"\nwhen = { kmi = [\"android13-5.10\", "
        "\"android13-5.15\"] }\n[[edit]]\nkind = \"put\"\npath = "
        "\"tide/conf\"\ntext = \"${kernel_release} ${stock_sha1}\"\n");
  const auto made = [&](const std::string& kit, const std::string& place) {
    return at(ramdisk_of(as_view(read(dir / kit / "flash/init_boot.img"))), place);
  };
  const Json old = program_json(dir, {"prepare", "old", "-r", "r.toml", "-o", "kit"});
  CHECK(made("kit", "tide/tide.ko") == "for 5.10");
  CHECK(made("kit", "tide/conf").starts_with("5.10.157-android13-4-00001 "));
  const Json manifest = Json::parse(read(dir / "kit/kit.json"));
  CHECK(manifest["recipes"][0]["files"][0]["named"] == "tide-android13-5.10.ko");
  CHECK(program(dir, {"check", "kit", "--remake", "old"}).exit_code == 0);
  // The same generation: the kit's own file, and the text of the new build.
  CHECK(program(dir, {"prepare", "next", "--like", "kit", "-o", "kit2"}).exit_code == 0);
  CHECK(made("kit2", "tide/tide.ko") == "for 5.10");
  CHECK(made("kit2", "tide/conf").starts_with("5.10.199-android13-4-00009 "));
  // Another: the kit does not have that file.
  const Json other = program_json(dir, {"prepare", "newer", "--like", "kit", "-o", "kit3"}, 3);
  CHECK(other["error"]["expected"] == "tide-android13-5.15.ko");
  // A kernel of no generation: the edit is skipped, and said so.
  const Json plain = program_json(dir, {"prepare", "plain", "-r", "r.toml", "-o", "kit4"});
  CHECK(made("kit4", "tide/tide.ko") == "(none)");
  CHECK(plain["result"].dump().find("this one is 4.14.117-perf") != std::string::npos);
  // What a person told goes with the kit.
  const std::string init_boot = read(dir / "old/init_boot.img");
  std::filesystem::create_directory(dir / "alone");
  write(dir / "alone/init_boot.img", init_boot);
  CHECK(program_json(dir, {"prepare", "alone", "-r", "r.toml", "-o", "kit5"}, 1)["error"]["hint"] ==
        "Say it: --set kmi=VALUE.");
  CHECK(program(dir, {"prepare", "alone", "-r", "r.toml", "--set", "kmi=android13-5.10", "--set",
                      "kernel_release=5.10.1", "-o", "kit5"})
            .exit_code == 0);
  CHECK(made("kit5", "tide/conf").starts_with("5.10.1 "));
  CHECK(program(dir, {"check", "kit5", "--remake", "alone"}).exit_code == 0);
  CHECK(program(dir, {"prepare", "alone", "--like", "kit5", "-o", "kit6"}).exit_code == 0);
  CHECK(read(dir / "kit6/flash/init_boot.img") == read(dir / "kit5/flash/init_boot.img"));
}

}  // namespace wexlo::test
