#pragma once
/// Kits of many kinds: what each is made from, and how.

#include "demo/phones.hpp"
#include "program/bench.hpp"

namespace wexlo::test {

struct KitWords {
  std::string kit;
  std::vector<std::string> words;  ///< of `prepare`, the firmware first
};

inline const std::string kSuper =
    "[super]\nsize = 6291456\n[[logical]]\nname = \"system_a\"\nsize = 2097152\n[[logical]]\n"
    "name = \"product_a\"\nsize = 1048576\n[[logical]]\nname = \"vendor_a\"\nsize = 1048576\n"
    "[[logical]]\nname = \"system_a-cow\"\nsize = 1048576\n";

/// Phones with two slots, in every way that a kit can be made for one.
inline std::vector<KitWords> slotted_kits(const Bench& bench) {
  const TempDir& dir = bench.dir;
  write(dir / "gsi.img",
        file_system(4 * kMiB, "ro.product.cpu.abilist=arm64-v8a\nro.build.ab_update=true\n"));
  write(dir / "noise.img", noise(2 * kMiB, 3));
  write(dir / "super.toml", Bench::sheet(kSuper));
  write(dir / "pieces.toml",
        Bench::sheet("[super]\nsize = 16777216\n[[logical]]\nname = \"system_a\"\nsize = 2097152\n")
            .replace(Bench::sheet().find("slots ="), 0, "download_limit = 700000\n"));
  write(dir / "own-boot.img", BootBytes{.kernel = arm64_kernel("5.10.1-own")}.done());
  write(dir / "new.zip", bench.ota("korvale/gnomon/gnomon:16/KV3A.2/20261005:user/release-keys"));
  return {
      {"plain", {"ota.zip", "-r", "r.toml"}},
      {"sheet", {"ota.zip", "-r", "r.toml", "--sheet", "sheet.toml", "--slots", "both"}},
      {"flags", {"ota.zip", "-r", "r.toml", "-r", "flags.toml", "--sheet", "sheet.toml"}},
      {"key",
       {"ota.zip", "-r", "r.toml", "--key",
        (source_folder() / std::filesystem::path("demo/keys/korvale-demo.pem")).string()}},
      {"with", {"ota.zip", "-r", "r.toml", "--with", "boot=own-boot.img"}},
      {"system",
       {"ota.zip", "-r", "r.toml", "-r", "flags.toml", "--sheet", "super.toml", "--with",
        "system=gsi.img", "--wipe"}},
      {"pieces",
       {"ota.zip", "-r", "r.toml", "-r", "flags.toml", "--sheet", "pieces.toml", "--with",
        "system=noise.img", "--wipe"}},
      {"install", {"ota.zip", "-r", "r.toml", "--sheet", "sheet.toml", "--install", "ota.zip"}},
      {"stock", {"ota.zip", "--stock", "--sheet", "sheet.toml"}},
      {"update", {"new.zip", "--like", "sheet"}},
  };
}

/// One slot in download mode, with a system that goes in a whole super; recovery inside of boot.
inline std::vector<KitWords> older_kits(const TempDir& dir) {
  REQUIRE(demo::write_vernier(dir / "vernier.zip", demo::FirmwareSize::Small, {.jobs = 2}));
  REQUIRE(demo::write_plumbline(dir / "plumbline.tar.md5", demo::FirmwareSize::Small, {.jobs = 2}));
  write(dir / "r.toml", kRecipe);
  write(dir / "flags.toml", kFlags);
  write(dir / "hello", elf("arm64", "the add-on"));
  write(dir / "gsi.img", file_system(kMiB, "ro.product.cpu.abilist=arm64-v8a\n"));
  return {
      {"vernier", {"vernier.zip", "-r", "r.toml"}},
      {"plumbline", {"plumbline.tar.md5", "-r", "r.toml", "--accept", "vbmeta-needed"}},
      {"plumbline-system",
       {"plumbline.tar.md5", "-r", "r.toml", "-r", "flags.toml", "--with", "system=gsi.img",
        "--wipe"}},
  };
}

}  // namespace wexlo::test
