/// What technicians paste: dumps, logs and answers, as editors, chats and shells leave them.

#include <algorithm>
#include <random>

#include "observed/observed.hpp"
#include "observed/pasted_line.hpp"
#include "support/check.hpp"

using namespace wexlo;

namespace {

const std::vector<std::string> kPaste{
    "[ro.product.device]: [gnomon]",
    "[ro.build.fingerprint]: [korvale/gnomon/gnomon:16/KV3A.260905.004/20260905:user/release-keys]",
    "[ro.build.version.security_patch]: [2026-09-05]",
    "[ro.boot.slot_suffix]: [_a]",
    "[ro.boot.verifiedbootstate]: [orange]",
    "[ro.boot.vbmeta.device_state]: [unlocked]",
    "[ro.crypto.state]: [encrypted]",
    "[sys.boot_completed]: [1]",
    "[ro.serialno]: [KV0001]",
    "[ro.debuggable]: [1]",
    "Enforcing",
    "uid=0(root) gid=0(root) groups=0(root),1004(input) context=u:r:su:s0",
    "Linux localhost 5.10.66-android12-9-gnomon #1 SMP PREEMPT Tue Aug 4 10:00:00 UTC 2026 aarch64",
    "user_setup_complete=1",
    "ota_disable_automatic_update=1",
    "/dev/block/dm-5 on / type ext4 (ro,seclabel,relatime)",
    "[    0.000000] Kernel command line: console=ttyMSM0 androidboot.hardware=gnomon enforcing=1",
    "[    1.204511] wexlo add-on: started before the stock init",
};

std::string joined(const std::vector<std::string>& lines) {
  std::string out;
  for (const std::string& line : lines)
    out += line + "\n";
  return out;
}

Observed seen_in(const std::string& text) {
  Observed out;
  read_observed(text, "notes.txt", out);
  return out;
}

std::string value(const Observed& seen, Fact fact) {
  const Seen* at = seen.find(fact);
  return at == nullptr ? "" : at->value;
}

/// Every fact's only value.
std::map<Fact, std::string> all_of(const Observed& seen) {
  std::map<Fact, std::string> out;
  for (const auto& [fact, ignored] : seen.facts)
    out[fact] = value(seen, fact);
  return out;
}

}  // namespace

TEST_CASE("observed: a dump, answers and a log say what they say, with their lines") {
  const Observed seen = seen_in(joined(kPaste));
  CHECK(value(seen, Fact::Device) == "gnomon");
  CHECK(value(seen, Fact::PatchLevel) == "2026-09-05");
  CHECK(value(seen, Fact::Slot) == "a");
  CHECK(value(seen, Fact::VerifiedState) == "orange");
  CHECK(value(seen, Fact::Lock) == "unlocked");
  CHECK(value(seen, Fact::Encryption) == "encrypted");
  CHECK(value(seen, Fact::Started) == "yes");
  CHECK(value(seen, Fact::Serial) == "KV0001");
  CHECK(value(seen, Fact::Selinux) == "enforcing");
  CHECK(value(seen, Fact::User) == "root");
  CHECK(value(seen, Fact::Kernel) == "5.10.66-android12-9-gnomon");
  CHECK(value(seen, Fact::KernelBuild) == "#1 SMP PREEMPT Tue Aug 4 10:00:00 UTC 2026");
  CHECK(value(seen, Fact::SetUp) == "yes");
  CHECK(value(seen, Fact::Updates) == "off");
  CHECK(seen.properties.at("ro.debuggable").value == "1");
  CHECK(seen.words.at("androidboot.hardware").value == "gnomon");
  REQUIRE(seen.mounts.size() == 1);
  CHECK(seen.mounts[0].point == "/");
  CHECK(seen.mounts[0].type == "ext4");
  CHECK(seen.find(Fact::Slot)->at.text() == "notes.txt:4");
  REQUIRE(seen.find_line("wexlo add-on: started") != nullptr);
  CHECK(seen.find_line("wexlo add-on: started")->at.line == kPaste.size());
  CHECK(seen.ignored.empty());
  REQUIRE_FALSE(seen.pieces.empty());
  CHECK(seen.pieces[0].kind == LineKind::Property);
  CHECK(seen.pieces[0].lines == 10);
  CHECK(seen.pieces[0].last == 10);
}

TEST_CASE("observed: numbers of an editor, quote marks and senders of a chat change nothing") {
  const auto want = all_of(seen_in(joined(kPaste)));
  REQUIRE(want.size() > 12);
  const auto dressed = [&](auto dress) {
    std::vector<std::string> out;
    for (std::size_t i = 0; i < kPaste.size(); ++i)
      out.push_back(dress(i + 1, kPaste[i]));
    return all_of(seen_in(joined(out)));
  };
  using Line = const std::string&;
  CHECK(dressed([](std::size_t n, Line s) { return std::to_string(n) + ": " + s; }) == want);
  CHECK(dressed([](std::size_t n, Line s) { return "   " + std::to_string(n) + "\t" + s; }) ==
        want);
  CHECK(dressed([](std::size_t n, Line s) { return std::to_string(n) + " | " + s; }) == want);
  CHECK(dressed([](std::size_t, Line s) { return "> " + s; }) == want);
  CHECK(dressed([](std::size_t, Line s) { return ">> " + s; }) == want);
  CHECK(dressed([](std::size_t, Line s) { return "\xe2\x94\x82 " + s; }) == want);
  CHECK(dressed([](std::size_t, Line s) { return "`" + s + "`"; }) == want);
  CHECK(dressed([](std::size_t n, Line s) { return "> " + std::to_string(n) + ") " + s; }) == want);
  CHECK(dressed([](std::size_t, Line s) { return "[12:03, 30/11/2026] Mina: " + s; }) == want);
  CHECK(dressed([](std::size_t, Line s) { return "\x1b[0;32m" + s + "\x1b[0m\r"; }) == want);
  // Two bytes a letter, as a console's redirection writes.
  std::string wide = "\xff\xfe";
  for (const char c : joined(kPaste))
    wide += {c, '\0'};
  CHECK(all_of(seen_in(wide)) == want);
}

TEST_CASE("observed: any order and any part of it says the same, or less") {
  const auto want = all_of(seen_in(joined(kPaste)));
  std::mt19937 random(7);
  for (int i = 0; i < 200; ++i) {
    std::vector<std::string> some;
    for (const std::string& line : kPaste)
      if (random() % 3 != 0) some.push_back(line);
    std::ranges::shuffle(some, random);
    for (const auto& [fact, said] : all_of(seen_in(joined(some))))
      CHECK(want.at(fact) == said);
  }
}

TEST_CASE("observed: the answer stands behind the command that was typed") {
  const Observed seen = seen_in(
      "gnomon:/ $ getenforce\nPermissive\n"
      "gnomon:/ # settings get secure user_setup_complete\n0\n"
      "C:\\tools> xyz shell getprop ro.serialno\nKV0009\n"
      "gnomon:/ $ settings get global ota_disable_automatic_update\nnull\n"
      "gnomon:/ $ cat /proc/cmdline\nquiet androidboot.slot_suffix=_b\n"
      "gnomon:/ $ getconf PAGE_SIZE\n16384\n");
  CHECK(value(seen, Fact::Selinux) == "permissive");
  CHECK(value(seen, Fact::SetUp) == "no");
  CHECK(value(seen, Fact::Serial) == "KV0009");
  CHECK(value(seen, Fact::Updates) == "on");
  CHECK(value(seen, Fact::Slot) == "b");
  CHECK(value(seen, Fact::PageSize) == "16384");
  CHECK(seen.ignored.empty());
}

TEST_CASE("observed: a bootloader's variables, and its refusal") {
  const Observed seen = seen_in(
      "(bootloader) product:gnomon\n(bootloader) unlocked:no\n(bootloader) current-slot:_b\n"
      "(bootloader) slot-retry-count:b:0\nserialno: KV0001\n"
      "FAILED (remote: 'Flashing is not allowed in Lock State')\n");
  CHECK(value(seen, Fact::Product) == "gnomon");
  CHECK(value(seen, Fact::Lock) == "locked");
  CHECK(value(seen, Fact::Slot) == "b");
  CHECK(value(seen, Fact::Serial) == "KV0001");
  CHECK(seen.variables.at("slot-retry-count:b").value == "0");
  REQUIRE(seen.signs.size() == 1);
  CHECK(seen.signs[0].sign == LogSign::LockedRefuses);
  CHECK(seen.signs[0].at.line == 6);
}

TEST_CASE("observed: a boot configuration, and words with blanks in quotes") {
  const Observed seen = seen_in(
      "androidboot.slot_suffix = \"_a\"\nandroidboot.verifiedbootstate = \"green\"\n"
      "quiet dm=\"1 vroot none ro\" androidboot.serialno=KV7\n");
  CHECK(value(seen, Fact::Slot) == "a");
  CHECK(value(seen, Fact::VerifiedState) == "green");
  CHECK(seen.words.at("dm").value == "1 vroot none ro");
  CHECK(value(seen, Fact::Serial) == "KV7");
}

TEST_CASE("observed: what contradicts itself is no fact, and both are told") {
  const Observed seen = seen_in("[ro.boot.slot_suffix]: [_a]\n\ncurrent-slot: b\n");
  CHECK(seen.find(Fact::Slot) == nullptr);
  const auto both = seen.conflict(Fact::Slot);
  REQUIRE(both);
  CHECK(both->first.at.line == 1);
  CHECK(both->second.at.line == 3);
  // Of the names of a device the first that ranks is meant: that is no contradiction.
  CHECK(value(seen_in("[ro.build.product]: [generic]\n[ro.product.device]: [gnomon]\n"),
              Fact::Device) == "gnomon");
}

TEST_CASE("observed: sentences are told as ignored, and claim nothing") {
  const Observed seen = seen_in(
      "it loops since yesterday, the customer says: help\n"
      "I saw androidboot.slot_suffix=_b somewhere in the text of it\n"
      "Permissive is what he told me\nversion 3 of the story\nhttp://example.invalid/a=b\n"
      "2026: a note\n12: 13\n");
  CHECK(seen.facts.empty());
  CHECK(seen.properties.empty());
  CHECK(seen.ignored.size() == 7);
  CHECK(seen.empty());
}

TEST_CASE("observed: signs of trouble in logs") {
  const std::vector<std::pair<std::string, LogSign>> cases{
      {"[    0.91] Kernel panic - not syncing: VFS: Unable to mount root fs on unknown-block(0,0)",
       LogSign::RootMount},
      {"<6>[    0.41] Initramfs unpacking failed: invalid magic at start of compressed archive",
       LogSign::RamdiskUnpack},
      {"[    0.61] Failed to execute /init (error -13)", LogSign::InitMode},
      {"[    0.61] Failed to execute /init (error -8)", LogSign::ExecFormat},
      {"[    2.1] tide: disagrees about version of symbol module_layout", LogSign::ModuleVersion},
      {"[    3.0] device-mapper: verity: 253:4: data block 12 is corrupted", LogSign::HashTree},
      {"11-30 07:30:00.123   512   512 E vold    : fscrypt_init_user0 failed with INVALID_KEY_BLOB",
       LogSign::DataKeys},
      {"FAILED (remote: 'Not enough space to resize partition')", LogSign::NoRoom},
      {"avb_slot_verify.c:436: ERROR: init_boot_a: Hash of data does not match digest in "
       "descriptor.",
       LogSign::NotVerified},
      {"[    1.5] init: Failed to mount required partitions early ...", LogSign::MountFailed}};
  for (const auto& [line, sign] : cases) {
    CAPTURE(line);
    const Observed seen = seen_in("a line\n" + line + "\n");
    REQUIRE(seen.signs.size() == 1);
    CHECK(seen.signs[0].sign == sign);
    CHECK(seen.signs[0].at.line == 2);
  }
}

TEST_CASE("observed: any bytes end, and claim no file that is not there") {
  std::mt19937 random(11);
  const std::string good = joined(kPaste);
  for (int i = 0; i < 300; ++i) {
    std::string text = good;
    for (int change = 0; change < 40; ++change)
      text[random() % text.size()] = static_cast<char>(random() % 256);
    const Observed seen = seen_in(text);
    for (const Seen& line : seen.lines)
      CHECK(line.at.line >= 1);
  }
  CHECK_FALSE(read_observed_files({"/nonexistent/notes.txt"}, {}));
}
