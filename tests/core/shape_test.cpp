/// What kind of phone a firmware is for: how it takes images, and how many slots it has.

#include "kit/facts/shape.hpp"

#include "firmware/formats.hpp"
#include "support/boot.hpp"
#include "support/check.hpp"
#include "support/containers.hpp"
#include "support/places.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

std::string small_boot(std::uint32_t seed = 1) {
  return BootBytes{
      .version = 2, .page = 2048, .kernel = noise(5000, seed), .ramdisk = test::gzip("r")}
      .done();
}

Result<FirmwarePtr> firmware_of(const std::string& bytes, const std::string& name = "x.zip") {
  return open_source(open_memory(blob(bytes), name), {});
}

PhoneShape shape_from(const std::vector<Member>& members, const std::string& name = "x.zip") {
  return shape_of(*value_of(firmware_of(zip(members), name)), {}, nullptr);
}

PhoneShape slots_from(ImageFacts facts, const std::vector<Member>& more = {}) {
  std::vector<Member> members{{"boot.img", small_boot()}};
  members.insert(members.end(), more.begin(), more.end());
  if (facts.partition.empty()) facts.partition = "boot";
  return shape_of(*value_of(firmware_of(zip(members))), {facts}, nullptr);
}

}  // namespace

TEST_CASE("ways: by what the package shows") {
  const Member boot{"boot.img", small_boot()};
  const std::string bare = tar({boot}), packed = tar({{"boot.img.lz4", lz4_frame(boot.data)}});
  const auto is = [](const PhoneShape& shape, Way way) {
    CAPTURE(shape.way_why);
    CHECK(shape.way_known);
    CHECK(shape.way == way);
    CHECK_FALSE(shape.way_why.empty());
  };
  is(shape_from({{"AP_x.tar.md5", bare}}), Way::Download);
  is(shape_from({{"AP.tar", packed}}), Way::Download);
  is(shape_from({boot, {"android-info.txt", "require board=gnomon\n"}}), Way::Bootloader);
  is(shape_from({boot, {"flash_all.bat", "fastboot %* flash boot %~dp0boot.img\r\n"}}),
     Way::Bootloader);
  const std::string scripts = test::gzip(
      tar({{"images/boot.img", boot.data},
           {"flash_all.sh", "fastboot $* flash boot_ab `dirname $0`/images/boot.img\n"}}));
  is(shape_of(*value_of(firmware_of(scripts, "x.tgz")), {}, nullptr), Way::Bootloader);
  // Prose that speaks of it is no sign, nor is a tar.
  for (const auto& members : {std::vector{boot, Member{"README.txt", "fastboot it yourself\n"}},
                              std::vector{Member{"images.tar", bare}}, std::vector{boot}}) {
    const PhoneShape shape = shape_from(members);
    CHECK_FALSE(shape.way_known);
    CHECK(shape.way == Way::Bootloader);
  }
  // The images' own trailer, and the sheet before all.
  const ImageFacts trailer{.partition = "boot", .enforcing = true};
  is(shape_of(*value_of(firmware_of(zip({boot}))), {trailer}, nullptr), Way::Download);
  const Sheet sheet = value_of(parse_sheet("format = 1\n[phone]\nmode = \"bootloader\"\n", "s"));
  is(shape_of(*value_of(firmware_of(zip({{"AP_x.tar.md5", bare}}))), {}, &sheet), Way::Bootloader);
}

TEST_CASE("slots: concluded from the images; what nothing tells stays unknown") {
  const auto header = [](unsigned version, RamdiskLayout layout) {
    return ImageFacts{.header_version = version, .layout = layout};
  };
  CHECK(slots_from(header(1, RamdiskLayout::Root)).slotted == false);
  CHECK(slots_from(header(2, RamdiskLayout::TwoStage)).slotted == false);
  CHECK_FALSE(slots_from(header(2, RamdiskLayout::TwoStageRecovery)).slotted);
  CHECK_FALSE(slots_from(header(1, RamdiskLayout::SystemRoot)).slotted);
  CHECK_FALSE(slots_from(header(4, RamdiskLayout::Generic)).slotted);
  ImageFacts selects{.partition = "dtbo"};
  selects.fstabs["tree 0 /fragment"] = "/vendor wait,slotselect\n";
  CHECK(slots_from(selects).slotted == true);
  ImageFacts plain = header(4, RamdiskLayout::Generic);
  plain.fstabs["/fstab.x"] = "/dev/block/x /vendor ext4 ro wait\n";
  CHECK(slots_from(plain).slotted == false);
  plain.fstabs["/fstab.x"] = "/dev/block/x /data ext4 ro wait\n";
  CHECK_FALSE(slots_from(plain).slotted);
  CHECK(
      slots_from(header(1, RamdiskLayout::SystemRoot), {{"recovery.img", small_boot(2)}}).slotted ==
      false);
  CHECK_FALSE(
      slots_from(header(4, RamdiskLayout::Generic), {{"recovery.img", small_boot(2)}}).slotted);
  CHECK(slots_from({}, {{"dtbo_a.img", noise(900)}}).slotted == true);
}
