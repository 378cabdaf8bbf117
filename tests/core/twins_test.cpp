/// Several files of one partition in one package, and what the names of a set say of its build.

#include <algorithm>

#include "core/package_bench.hpp"
#include "firmware/build_names.hpp"
#include "support/places.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

/// As a user gives it: a zip of its own.
FirmwarePtr zipped_package(const std::vector<Member>& members) {
  return value_of(open(zip(members)));
}

std::string taken_file(const Firmware& firmware, const std::string& name) {
  const auto chosen = firmware.choose(name, "x");
  return chosen ? (*chosen)->from : std::string(code_name(chosen.error().code));
}

bool one_was_taken(const Firmware& firmware) {
  return std::ranges::any_of(
      firmware.notes, [](const Finding& one) { return one.id.code == FindingCode::OneOfSeveral; });
}

}  // namespace

TEST_CASE("twins: an image beside its sparse and its packed self: the plain one, and it is told") {
  const std::string boot = padded(boot_image(), 4096);
  const FirmwarePtr firmware = zipped_package({{"boot.simg", SparseBytes().raw(boot).done()},
                                               {"boot.img", boot},
                                               {"boot.img.lz4", lz4_frame(boot)}});
  CHECK(taken_file(*firmware, "boot") == "boot.img");
  CHECK(one_was_taken(*firmware));
  CHECK(content(*firmware, "boot.img.lz4").value() == boot);  // by its file it is had all the same
}

TEST_CASE("twins: what the listing names, what is no backup; else somebody has to choose") {
  const std::string one = boot_image(1), two = boot_image(2);
  const FirmwarePtr listed = zipped_package(
      {{"boot.img", one},
       {"boot-verified.img", two},
       {"parts.xml", "<a><program label=\"boot\" filename=\"boot-verified.img\"/></a>"}});
  CHECK(taken_file(*listed, "boot") == "boot-verified.img");
  CHECK(one_was_taken(*listed));
  for (const char* older : {"old/boot.img", "backup_2026/boot.img", "x/orig/boot.img"})
    CHECK(taken_file(*zipped_package({{"new/boot.img", one}, {older, two}}), "boot") ==
          "new/boot.img");
  for (const char* other :
       {"boot-sign.img", "boot_signed.img", "golden/boot.img", "x/boot-old.img"}) {
    CAPTURE(other);
    const FirmwarePtr firmware = zipped_package({{"images/boot.img", one}, {other, two}});
    CHECK(taken_file(*firmware, "boot") ==
          (std::string(other) == "x/boot-old.img" ? "images/boot.img" : "ambiguous"));
    CHECK_FALSE(one_was_taken(*firmware));
  }
  // Their digests in a list tell that they differ, too.
  const std::string sums =
      hex_of(sha256(one)) + "  boot.img\n" + hex_of(sha256(two)) + "  boot-sign.img\n";
  CHECK(taken_file(
            *zipped_package({{"boot.img", one}, {"boot-sign.img", two}, {"sha256sums.txt", sums}}),
            "boot") == "ambiguous");
  // One alone is the partition's, whatever mark it has.
  CHECK(taken_file(*zipped_package({{"boot-sign.img", one}}), "boot") == "boot-sign.img");
}

TEST_CASE("twins: dumps of both slots: the same bytes are one image, others ask for the slot") {
  const std::string one = boot_image(1), two = boot_image(2);
  CHECK(taken_file(*zipped_package({{"boot_a.img", one}, {"boot_b.img", one}}), "boot") ==
        "boot_a.img");
  const FirmwarePtr differ = zipped_package({{"boot_a.img", one}, {"boot_b.img", two}});
  CHECK(taken_file(*differ, "boot") == "ambiguous");
  differ->slot = "b";
  CHECK(taken_file(*differ, "boot") == "boot_b.img");
}

TEST_CASE("build names: build, model and binary number of a download-mode set") {
  const auto name = read_build_name("set/AP_KV730BXXU5CZK1_KV730BXXU5CZK1_REV00_user.tar.md5");
  REQUIRE(name);
  CHECK(name->word == "AP");
  CHECK(name->build == "KV730BXXU5CZK1");
  CHECK(name->model == "KV730B");
  CHECK(name->binary == 5);
  CHECK(read_build_name("HOME_CSC_ODM_KV730BODMACZK2.tar.md5")->binary == 10);
  CHECK(binary_number("KV730BXXSFCZL9") == 15);
  for (const char* other : {"boot.tar.md5", "AP_boot_KV.tar", "AP_KV730BXXU5CZZ1.tar.md5",
                            "AP_KV730BXXU5CZK1.zip", "AP_2026090512345.tar", ""})
    CHECK_FALSE(read_build_name(other));
  // The set as a whole: the lowest number counts.
  const auto tar_of = [](const std::string& file) { return tar({{file, boot_image()}}); };
  const FirmwarePtr set = zipped_package({{"AP_KV730BXXU5CZK1_X.tar.md5", tar_of("boot.img")},
                                          {"BL_KV730BXXU4CZK1_X.tar.md5", tar_of("vbmeta.img")}});
  CHECK(set->build.binary == 4u);
  CHECK(set->build.model == "KV730B");
  CHECK(set->build.incremental == "KV730BXXU5CZK1");
  CHECK_FALSE(set->signs.download.empty());
}
