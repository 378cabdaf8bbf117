/// Listings: what names a partition, what only speaks of a file, what describes a phone's storage.

#include "firmware/listing.hpp"
#include "core/package_bench.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

Listing listing_of(const std::string& name, const std::string& text,
                   const std::vector<std::string>& files) {
  return read_listing(text, name, [&](std::string_view file) {
    return std::ranges::any_of(
        files, [&](const std::string& one) { return one == file || one == base_name(file); });
  });
}

/// The partition that a text gives a file; "": it names none.
std::string partition_in(const std::string& name, const std::string& text,
                         const std::string& file) {
  std::string out;
  for (const ListingRow& row : listing_of(name, text, {file}).rows)
    if (!row.partition.empty()) out = row.partition;
  return out;
}

std::vector<std::string> names_in(const Firmware& firmware) {
  std::vector<std::string> out;
  for (const PartitionFacts& one : firmware.partitions)
    out.push_back(one.name);
  return out;
}

}  // namespace

TEST_CASE("listing: prose never names a partition") {
  for (const char* text :
       {"flash init_boot.img", "Flash the init_boot.img with your tool.",
        "Then flash the file modem.img to the phone.", "Use modem.img or boot.img.",
        "flash the modem.img", "You can write a modem.img here: modem.img", "Note: modem.img",
        "1. modem.img\n2. modem.img", "1. flash modem.img\n2. flash modem.img\n3. flash modem.img",
        "- modem.img: the radio\n- modem.img: again", "echo flash radio modem.img",
        "Please program your modem.img soon"})
    for (const char* file : {"README.txt", "install.md.txt"}) {
      CAPTURE(text);
      CHECK(partition_in(file, text, "modem.img").empty());
      CHECK(partition_in(file, text, "init_boot.img").empty());
    }
  // The whole of it, as a bench meets it.
  const auto firmware = open_set({{"boot.img", boot_image()},
                                  {"init_boot.img", boot_image(2)},
                                  {"README.txt",
                                   "First flash init_boot.img\nthen flash boot.img\n"
                                   "and flash init_boot.img again.\n"}});
  REQUIRE(firmware);
  CHECK(names_in(**firmware) == std::vector<std::string>{"boot", "init_boot"});
}

TEST_CASE("listing: a command that writes names a partition, whatever stands around it") {
  const std::pair<const char*, const char*> rows[] = {
      {"fastboot flash radio 7.bin", "radio"},
      {"fastboot %* flash radio \"%~dp0images\\7.bin\" || exit /B 1", "radio"},
      {"fastboot $* flash radio_ab `dirname $0`/images/7.bin", "radio"},
      {"fastboot $* flash radio_a $(dirname \"$0\")/images/7.bin", "radio_a"},
      {"\"$FASTBOOT\" --slot all flash radio ./7.bin", "radio"},
      {"fastboot -s %SN% flash --slot=all radio images\\7.bin", "radio"},
      {"fastboot erase boot && fastboot flash radio 7.bin && echo done", "radio"},
      {"if [ -f 7.bin ]; then fastboot flash:raw radio 7.bin; fi", "radio"},
      {"write radio 7.bin", "radio"},
      {"program radio images/7.bin", "radio"},
      {"fastboot flash BOOT_AB 7.bin", "boot"},
  };
  for (const auto& [line, partition] : rows) {
    CAPTURE(std::string(line));
    for (const char* file : {"flash_all.sh", "flash_all.bat", "steps.txt"})
      if (std::string(line).find("if [") == std::string::npos || std::string(file) != "steps.txt")
        CHECK(partition_in(file, std::string("@echo off\n") + line + "\n", "7.bin") == partition);
  }
}

TEST_CASE("listing: three lines of the same columns are a table, two are none") {
  const std::string two = "radio 7.bin 0x1000 0x800\nlogo 8.bin 0x2000 0x800\n";
  const std::string three = two + "misc 9.bin 0x3000 0x800\n";
  const auto first = [](const Listing& listing) { return listing.rows.at(0).partition; };
  CHECK(first(listing_of("map.txt", two, {"7.bin", "8.bin", "9.bin"})).empty());
  CHECK(first(listing_of("map.txt", three, {"7.bin", "8.bin", "9.bin"})) == "radio");
  // A head says what the columns are, with one row below it.
  CHECK(partition_in("x.csv", "file;size;partition\n7.bin;4096;radio\n", "7.bin") == "radio");
  // Sums are no partitions, and their algorithm's name is none.
  const std::string sum(32, 'a');
  std::string list;
  for (const char* file : {"7.bin", "8.bin", "9.bin"})
    list += std::string("MD5 (") + file + ") = " + sum + "\n";
  const Listing sums = listing_of("sums.txt", list, {"7.bin", "8.bin", "9.bin"});
  CHECK(sums.rows.size() == 3);
  CHECK(first(sums).empty());
  CHECK(sums.rows.at(1).promises.size() == 1);
}

TEST_CASE("listing: a file of the boot chain keeps its name where a listing's word is another's") {
  const std::string kernel = "<a><program label=\"oem\" filename=\"boot.img\"/></a>";
  const auto firmware = open_set({{"boot.img", boot_image()}, {"x.xml", kernel}});
  CHECK((*firmware)->find("boot") != nullptr);
  const auto other =
      open_set({{"recovery.img", boot_image()},
                {"x.xml", "<a><program label=\"boot\" filename=\"recovery.img\"/></a>"}});
  CHECK((*other)->find("boot") != nullptr);
}

TEST_CASE("listing: a scatter's chipset words are no device, its storage parts no region") {
  const std::string scatter =
      "- general: CHIPSET_CFG\n  info:\n    - config_version: V1.1.2\n      platform: KV6785\n"
      "      project: k85v1_64\n      storage: EMMC\n      boot_channel: MSDC_0\n"
      "- partition_index: SYS0\n  partition_name: preloader\n  file_name: NONE\n"
      "  is_download: false\n  linear_start_addr: 0x0\n  partition_size: 0x40000\n"
      "  region: EMMC_BOOT1_BOOT2\n  storage: HW_STORAGE_EMMC\n"
      "- partition_index: SYS9\n  partition_name: boot_a\n  file_name: boot.img\n"
      "  is_download: true\n  linear_start_addr: 0x8000000\n  partition_size: 0x2000000\n"
      "  region: EMMC_USER\n  storage: HW_STORAGE_EMMC\n"
      "- partition_index: SYS10\n  partition_name: boot_b\n  file_name: boot.img\n"
      "  is_download: true\n  linear_start_addr: 0xa000000\n  partition_size: 0x2000000\n"
      "  region: EMMC_USER\n";
  const auto firmware = open_set({{"boot.img", boot_image()}, {"KV_scatter.txt", scatter}});
  REQUIRE(firmware);
  CHECK((*firmware)->build.device.empty());
  CHECK((*firmware)->build.region.empty());
  CHECK((*firmware)->find("boot") != nullptr);
  // A sales region is still one.
  const auto sold = open_set({{"boot.img", boot_image()}, {"info.txt", "region: Nordland\n"}});
  CHECK((*sold)->build.region == "Nordland");
}

TEST_CASE("listing: rows of one label are one partition, laid out by their sectors") {
  for (const unsigned unit : {512u, 4096u}) {
    CAPTURE(unit);
    const std::string a = noise(2 * unit, 1), b = noise(unit, 2), c = noise(3 * unit, 3);
    const auto row = [&](const char* file, const char* start, unsigned count, unsigned from = 0) {
      return "<program SECTOR_SIZE_IN_BYTES=\"" + std::to_string(unit) + "\" filename=\"" + file +
             "\" label=\"super\" start_sector=\"" + start + "\" num_partition_sectors=\"" +
             std::to_string(count) + "\" file_sector_offset=\"" + std::to_string(from) + "\"/>";
    };
    const std::string wanted = a + std::string(2 * unit, '\0') + b + c.substr(unit);
    for (const auto& rows : {row("super_2.img", "104", 1) + row("super_1.img", "100", 2) +
                                 row("super_3.img", "105", 2, 1),
                             row("super_1.img", "NUM_DISK_SECTORS-50.", 2) +
                                 row("super_2.img", "NUM_DISK_SECTORS-46.", 1) +
                                 row("super_3.img", "NUM_DISK_SECTORS-45.", 2, 1)}) {
      const auto firmware = open_set({{"super_1.img", a},
                                      {"super_2.img", b},
                                      {"super_3.img", c},
                                      {"boot.img", boot_image()},
                                      {"program0.xml", "<data>" + rows + "</data>"}});
      REQUIRE(firmware);
      CHECK(names_in(**firmware) == std::vector<std::string>{"super", "boot"});
      CHECK(content(**firmware, "super").value() == wanted);
    }
  }
}

TEST_CASE(
    "listing: a piece that is missing, or lies over another, is told for its partition alone") {
  const auto with = [](const std::string& rows) {
    return open_set({{"a.img", noise(1024, 1)},
                     {"b.img", noise(512, 2)},
                     {"boot.img", boot_image()},
                     {"program0.xml", "<data>" + rows + "</data>"}});
  };
  const auto row = [](const std::string& file, const std::string& start) {
    return "<program SECTOR_SIZE_IN_BYTES=\"512\" filename=\"" + file +
           "\" label=\"cust\" start_sector=\"" + start + "\" num_partition_sectors=\"2\"/>";
  };
  const auto missing = with(row("a.img", "8") + row("gone.img", "10"));
  CHECK(content(**missing, "cust").error().code == ErrorCode::NotFound);
  CHECK(content(**missing, "boot"));
  CHECK(content(**with(row("a.img", "8") + row("b.img", "9")), "cust").error().code ==
        ErrorCode::Corrupt);
  CHECK(content(**with(row("a.img", "8") + row("b.img", "NUM_DISK_SECTORS-9.")), "cust")
            .error()
            .code == ErrorCode::Corrupt);
  // A sector beyond any storage places nothing: two files of one name ask for a choice.
  CHECK(content(**with(row("a.img", "8") + row("b.img", "18446744073709551615")), "cust")
            .error()
            .code == ErrorCode::Ambiguous);
}

TEST_CASE("listing: a small tar that is called .md5 is none, whatever its images hold") {
  // The words of a listing, between bytes that no text has.
  const std::string words("\n\0model = Tarn 1\ndevice=plumb\1lin4\n\0", 36);
  const auto firmware =
      open_set({{"any.tar.md5", tar({{"boot.img", boot_image()}, {"notes.bin", words}})},
                {"setup.txt", "device=gnomon\n"}});
  REQUIRE(firmware);
  CHECK((*firmware)->build.device == "gnomon");
  const auto alone =
      open_set({{"any.tar.md5", tar({{"boot.img", boot_image()}, {"notes.bin", words}})}});
  REQUIRE(alone);
  CHECK((*alone)->build.device.empty());
}
