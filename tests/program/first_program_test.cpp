/// Whatever a phone runs first, a recipe that puts init reaches it.

#include "program/support.hpp"
#include "support/patching.hpp"

namespace wexlo::test {

namespace {

std::string first_archive(bool recovery) {
  CpioBytes cpio;
  cpio.folder("dev").folder("system").entry("init", elf("arm64", "stock"), 0100750, 0, 1);
  if (recovery) cpio.folder("sbin").file("sbin/recovery", elf("arm64", "recovery"));
  return gzip(cpio.done());
}

std::string kernel_with_word() {
  return padded(arm64_kernel("4.14.1-tarn") + noise(40, 3) + std::string("\0skip_initramfs\0", 16) +
                    noise(400, 4),
                8);
}

struct Start {
  const char* name;
  std::map<std::string, std::string> images;
  const char* target;
};

std::vector<Start> starts() {
  const std::string kernel = arm64_kernel("5.10.1-tarn"),
                    tree = device_tree("Tarn", "korvale,tarn");
  const std::string kernel_only = BootBytes{.version = 4, .kernel = kernel}.done();
  VendorBootBytes vendor{.dtb = tree};
  vendor.named = {{"", 1, first_archive(false)}};
  VendorBootBytes beside{.dtb = tree};
  beside.named = {{"", 1, gzip(CpioBytes{}.folder("lib").file("lib/a", "x").done())}};
  return {
      {"recovery as boot",
       {{"boot", BootBytes{.version = 2,
                           .kernel = kernel_with_word(),
                           .ramdisk = first_archive(true),
                           .dtb = tree}
                     .done()}},
       "boot"},
      {"header 1 with recovery_dtbo",
       {{"boot",
         BootBytes{.version = 1, .kernel = kernel_with_word(), .ramdisk = first_archive(false)}
             .done()},
        {"recovery", BootBytes{.version = 1,
                               .kernel = kernel,
                               .ramdisk = first_archive(true),
                               .recovery_dtbo = noise(5000, 2)}
                         .done()}},
       "boot"},
      {"recovery_dtbo in boot itself",
       {{"boot", BootBytes{.version = 1,
                           .kernel = kernel_with_word(),
                           .ramdisk = first_archive(true),
                           .recovery_dtbo = noise(5000, 2)}
                     .done()}},
       "boot"},
      {"vendor_boot alone", {{"boot", kernel_only}, {"vendor_boot", vendor.done()}}, "vendor_boot"},
      {"init_boot",
       {{"boot", kernel_only},
        {"init_boot", BootBytes{.version = 4, .ramdisk = first_archive(false)}.done()},
        {"vendor_boot", beside.done()}},
       "init_boot"},
      {"kernel and ramdisk apart",
       {{"kernel", BootBytes{.version = 0, .kernel = kernel}.done()},
        {"ramdisk", BootBytes{.version = 0, .ramdisk = first_archive(false)}.done()}},
       "ramdisk"},
  };
}

}  // namespace

TEST_CASE("prepare: put init reaches what runs first, however the phone is laid out") {
  for (const Start& start : starts()) {
    CAPTURE(start.name);
    const TempDir dir;
    std::filesystem::create_directory(dir / "firmware");
    for (const auto& [name, bytes] : start.images)
      write(dir / ("firmware/" + name + ".img"), bytes);
    write(dir / "hello", elf("arm64", "tide"));
    write(dir / "r.toml",
          "format = 1\nname = \"tide\"\n[[edit]]\nkind = \"put\"\npath = \"init\"\nfrom = "
          "\"hello\"\nmode = 0o750\n");
    const Json done = program_json(dir, {"prepare", "firmware", "-r", "r.toml", "-o", "kit"});
    CHECK(done["result"]["target"] == start.target);
    const std::string image = read(dir / ("kit/flash/" + std::string(start.target) + ".img"));
    CHECK(at(ramdisk_of(as_view(image)), "init") == elf("arm64", "tide"));
    // No kernel that is written passes the ramdisk over.
    CHECK(image.find("skip_initramfs") == std::string::npos);
    CHECK(program(dir,
                  {"restore", "kit/flash/" + std::string(start.target) + ".img", "-o", "back.img"})
              .exit_code == 0);
    CHECK(read(dir / "back.img") == start.images.at(start.target));
  }
}

TEST_CASE("prepare: a recipe whose edit of init is left out everywhere stops, unless accepted") {
  const TempDir dir;
  std::filesystem::create_directory(dir / "firmware");
  for (const Start& start : starts())
    if (std::string(start.name) == "init_boot")
      for (const auto& [name, bytes] : start.images)
        write(dir / ("firmware/" + name + ".img"), bytes);
  write(dir / "hello", elf("arm64", "tide"));
  const std::string recipe =
      "format = 1\nname = \"tide\"\n[[edit]]\nkind = \"put\"\npath = \"init\"\nfrom = "
      "\"hello\"\nwhen = { layout = [\"two-stage\"], reason = \"for older phones\" }\n";
  write(dir / "r.toml", recipe + "[[edit]]\nkind = \"put\"\npath = \"tide.conf\"\ntext = \"x\"\n");
  const Json stopped = program_json(dir, {"prepare", "firmware", "-r", "r.toml", "-o", "kit"}, 1);
  CHECK(stopped.dump().find("no-start-edit") != std::string::npos);
  CHECK(stopped.dump().find("for older phones") != std::string::npos);
  CHECK_FALSE(std::filesystem::exists(dir / "kit"));
  CHECK(program(dir,
                {"prepare", "firmware", "-r", "r.toml", "--accept", "no-start-edit", "-o", "kit"})
            .exit_code == 0);
  // Nothing else is to be done: the reason is told as well.
  write(dir / "r.toml", recipe);
  const Json nothing = program_json(dir, {"prepare", "firmware", "-r", "r.toml", "-o", "kit2"}, 1);
  CHECK(nothing["error"]["found"].get<std::string>().find("left out") != std::string::npos);
}

TEST_CASE("prepare: a boot image without a ramdisk gets one where the recipe asks for it") {
  const TempDir dir;
  std::filesystem::create_directory(dir / "firmware");
  // As long as its partition: the ramdisk has room in it.
  const std::string boot =
      BootBytes{.version = 1, .kernel = kernel_with_word()}.done() + std::string(70'000, '\0');
  write(dir / "firmware/boot.img", boot);
  write(dir / "hello", elf("arm64", "tide"));
  const std::string recipe =
      "format = 1\nname = \"tide\"\n[[edit]]\nkind = \"put\"\npath = \"init\"\nfrom = "
      "\"hello\"\nmode = 0o750\n";
  write(dir / "r.toml", recipe);
  CHECK(program(dir, {"prepare", "firmware", "-r", "r.toml", "-o", "kit"}).exit_code == 1);
  write(dir / "r.toml", recipe + "create = true\n");
  const Json done = program_json(dir, {"prepare", "firmware", "-r", "r.toml", "-o", "kit"});
  CHECK(done["result"]["target"] == "boot");
  CHECK(done.dump().find("ramdisk-made") != std::string::npos);
  CHECK(at(ramdisk_of(as_view(read(dir / "kit/flash/boot.img"))), "init") == elf("arm64", "tide"));
  CHECK(program(dir, {"check", "kit", "--remake", "firmware"}).exit_code == 0);
  CHECK(program(dir, {"restore", "kit/flash/boot.img", "-o", "back.img"}).exit_code == 0);
  CHECK(read(dir / "back.img") == boot);
}

}  // namespace wexlo::test
