#include "ramdisk/textfiles.hpp"

#include "support/bytes.hpp"
#include "support/check.hpp"

using namespace wexlo;

namespace {

constexpr std::string_view kFstab =
    "# a comment with avb in it\n"
    "system\t/system\text4\tro\twait,avb=vbmeta_system,logical\n"
    "vendor /vendor ext4 ro wait,avb,avb_keys=/k/a.key,verify  \n"
    "\n"
    "data /data f2fs noatime fileencryption=aes\r\n"
    "odd /odd ext4 ro avb\n"
    "short line";

}  // namespace

TEST_CASE("fstab: whole words are dropped, with or without a value, and nothing else changes") {
  const auto edit = drop_fstab_flags(kFstab, "*", {"avb"});
  CHECK(edit.text ==
        "# a comment with avb in it\n"
        "system\t/system\text4\tro\twait,logical\n"
        "vendor /vendor ext4 ro wait,avb_keys=/k/a.key,verify  \n"
        "\n"
        "data /data f2fs noatime fileencryption=aes\r\n"
        "odd /odd ext4 ro defaults\n"
        "short line");
  REQUIRE(edit.changes.size() == 3);
  CHECK(edit.changes[0] == "/system: wait,avb=vbmeta_system,logical -> wait,logical");
}

TEST_CASE("fstab: one mount point only, line ends kept") {
  const auto edit = drop_fstab_flags(kFstab, "/data", {"fileencryption"});
  CHECK(edit.changes.size() == 1);
  CHECK(edit.text.find("noatime defaults\r\n") != std::string::npos);
  CHECK(drop_fstab_flags(kFstab, "/none", {"avb"}).text == kFstab);
  CHECK(drop_fstab_flags(kFstab, "*", {"verifyatboot"}).changes.empty());
}

TEST_CASE("fstab: dropping twice changes nothing more") {
  const auto once = drop_fstab_flags(kFstab, "*", {"avb", "avb_keys", "verify"});
  const auto twice = drop_fstab_flags(once.text, "*", {"avb", "avb_keys", "verify"});
  CHECK(twice.changes.empty());
  CHECK(twice.text == once.text);
}

TEST_CASE("fstab: its files are known by name") {
  CHECK(is_fstab_name("fstab.gnomon"));
  CHECK(is_fstab_name("first_stage_ramdisk/fstab.gnomon"));
  CHECK_FALSE(is_fstab_name("fstab."));
  CHECK_FALSE(is_fstab_name("notfstab.gnomon"));
}

TEST_CASE("properties: replaced where set, added where not, and once is enough") {
  CHECK(set_property("a=1\nb=2\n", "a", "3") == "a=3\nb=2\n");
  CHECK(set_property("a=1", "b", "2") == "a=1\nb=2\n");
  CHECK(set_property("", "b", "2") == "b=2\n");
  CHECK(set_property("# a=1\n  a = 1\nab=1\n", "a", "2") == "# a=1\na=2\nab=1\n");
  CHECK(set_property("a=1\nx\na=2\n", "a", "9") == "a=9\nx\na=9\n");
  const std::string once = set_property("q=0\n", "a", "b=c");
  CHECK(set_property(once, "a", "b=c") == once);
}

TEST_CASE("mount tables: what is commented out of a mount table is no row") {
  const std::string row = "/dev/block/a /system ext4 ro wait,avb\n";
  CHECK(mounts(row, "/system"));
  CHECK_FALSE(mounts("#" + row, "/system"));
  CHECK_FALSE(mounts("  # " + row, "/system"));
  CHECK(fstab_rows("# a comment of more than five words here\n" + row).size() == 1);
}
