#include <algorithm>

#include "kit/facts/target.hpp"
#include "support/boot.hpp"
#include "support/check.hpp"
#include "support/patching.hpp"

using namespace wexlo;
using namespace wexlo::test;

TEST_CASE("target: init_boot when it has a ramdisk with an init, else boot") {
  const LoadedImage with = load(BootBytes{.ramdisk = first_ramdisk()}.done());
  const LoadedImage kernel_only = load(BootBytes{.kernel = noise(100)}.done());
  const LoadedImage v2 = load(BootBytes{
      .version = 2, .kernel = noise(9), .ramdisk = test::gzip(first_ramdisk()), .dtb = noise(9)}
                                  .done());
  const auto first = choose_target({{"init_boot", &with}, {"boot", &kernel_only}});
  REQUIRE(first);
  CHECK(first->partition == "init_boot");
  CHECK(first->reason.find("/init (19 bytes)") != std::string::npos);
  CHECK(choose_target({{"boot", &v2}})->partition == "boot");
  CHECK(choose_target({{"init_boot", &kernel_only}, {"boot", &v2}})->partition == "boot");
  CHECK(choose_target({{"boot", &kernel_only}}).error().code == ErrorCode::NoTarget);
  CHECK(choose_target({}).error().code == ErrorCode::NoTarget);
  const LoadedImage no_init = load(BootBytes{.ramdisk = CpioBytes{}.folder("dev").done()}.done());
  CHECK(choose_target({{"init_boot", &no_init}}).error().code == ErrorCode::NoTarget);
  const LoadedImage linked =
      load(BootBytes{.ramdisk = CpioBytes{}.link("init", "/system/bin/init").done()}.done());
  CHECK(choose_target({{"boot", &linked}})->reason.find("link to /system/bin/init") !=
        std::string::npos);
}

TEST_CASE("target: vendor_boot where the generic ramdisk is not there, or has no first program") {
  const std::string with_init = lz4_legacy(first_ramdisk());
  const std::string without = lz4_legacy(CpioBytes{}.folder("lib").done());
  const LoadedImage vendor =
      load(VendorBootBytes{.version = 4, .named = {{"", 1, with_init}, {"recovery", 2, with_init}}}
               .done());
  const LoadedImage modules =
      load(VendorBootBytes{.version = 4, .named = {{"", 1, without}, {"recovery", 2, with_init}}}
               .done());
  const LoadedImage kernel_only = load(BootBytes{.kernel = noise(100)}.done());
  const LoadedImage bare = load(BootBytes{.ramdisk = without}.done());
  const auto first = choose_target({{"boot", &kernel_only}, {"vendor_boot", &vendor}});
  REQUIRE(first);
  CHECK(first->partition == "vendor_boot");
  CHECK(first->reason.find("neither init_boot nor boot") != std::string::npos);
  CHECK(choose_target({{"init_boot", &bare}, {"vendor_boot", &vendor}})->partition ==
        "vendor_boot");
  CHECK(choose_target({{"boot", &bare}, {"vendor_boot", &vendor}})->partition == "vendor_boot");
  // Nor does what is made for modules, whatever it is called inside.
  const LoadedImage named = load(
      VendorBootBytes{.version = 4, .named = {{"mods", 3, with_init}, {"recovery", 2, with_init}}}
          .done());
  CHECK(choose_target({{"boot", &kernel_only}, {"vendor_boot", &named}}).error().code ==
        ErrorCode::NoTarget);
  // What only recovery loads starts no system.
  CHECK(choose_target({{"boot", &kernel_only}, {"vendor_boot", &modules}}).error().code ==
        ErrorCode::NoTarget);
}

TEST_CASE("target: recovery where the system starts without a ramdisk") {
  const LoadedImage empty = load(BootBytes{.version = 1, .kernel = noise(100)}.done());
  const LoadedImage recovery = load(
      BootBytes{.version = 1, .kernel = noise(9), .ramdisk = test::gzip(first_ramdisk())}.done());
  const auto found = choose_target({{"boot", &empty}, {"recovery", &recovery}});
  REQUIRE(found);
  CHECK(found->partition == "recovery");
  CHECK(found->reason.find("without one") != std::string::npos);
}
