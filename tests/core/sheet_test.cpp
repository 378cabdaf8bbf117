#include "kit/facts/sheet.hpp"

#include <algorithm>
#include <random>

#include "support/check.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

Sheet sheet(const std::string& text) {
  return value_of(parse_sheet(text, "phone.toml"));
}

Error refused(const std::string& text) {
  const auto got = parse_sheet(text, "phone.toml");
  REQUIRE_FALSE(got);
  return got.error();
}

/// As a console writes it when its output is sent to a file: two bytes a character.
std::string wide(const std::string& text, bool big) {
  std::string out = big ? "\xfe\xff" : "\xff\xfe";
  for (const char c : text) {
    if (big) out += '\0';
    out += c;
    if (!big) out += '\0';
  }
  return out;
}

}  // namespace

TEST_CASE("sheet: a value written by hand, one with its source, and what is not known") {
  const Sheet got = sheet(
      "[phone]\ncodename = \"gnomon\"\nmodel = { value = \"Tarn 3\", source = \"the box\" }  #"
      "variant = \"unknown\"\n[state]\nbattery_percent = 55\ndownload_limit = \"0x10000000\"\n");
  CHECK(got.text("phone.codename") == "gnomon");
  CHECK(got.facts.at("phone.codename").source == "written by hand");
  CHECK(got.facts.at("phone.model") == Known{"Tarn 3", "the box"});
  CHECK(got.text("phone.variant").empty());
  CHECK_FALSE(got.facts.contains("phone.variant"));
  CHECK(got.number("state.battery_percent") == 55);
  CHECK(got.number("state.download_limit") == 0x10000000);
  CHECK_FALSE(got.number("super.free"));
}

TEST_CASE("sheet: sizes, logical partitions, groups, rollback indexes and notes") {
  const Sheet got = sheet(
      "[partitions]\nboot_a = 0x4000000\n\"super\" = \"0x100000000\"\n[rollback]\n0 = 7\n"
      "31 = \"18446744073709551615\"\n[access]\nrecovery = \"both volumes\"\n"
      "[[logical]]\nname = \"system_a\"\nsize = 4096\ngroup = \"main\"\n"
      "[[group]]\nname = \"main\"\nsize = 8192\n");
  CHECK(got.partitions.at("boot_a") == 0x4000000);
  CHECK(got.size_of("boot") == 0x4000000);
  CHECK(got.size_of("super") == 0x100000000);
  CHECK_FALSE(got.size_of("init_boot"));
  CHECK(got.rollback.at(31) == ~std::uint64_t{0});
  CHECK(got.note("recovery") == "both volumes");
  CHECK(got.note("bootloader").empty());
  CHECK(got.logical == std::vector<LogicalPartition>{{"system_a", 4096, "main"}});
  CHECK(got.groups == std::vector<LogicalGroup>{{"main", 8192}});
}

TEST_CASE("sheet: the slot that the phone starts from decides which size is meant") {
  CHECK(sheet("[state]\ncurrent_slot = \"b\"\n[partitions]\nboot_a = 1\nboot_b = 2\n")
            .size_of("boot") == 2);
}

TEST_CASE("sheet: what is mistyped is told, with its line") {
  struct Case {
    const char *text, *line, *message;
  };
  for (const Case& one : {
           Case{"[phone]\ncodenam = \"x\"\n", "line 2", "does not know phone.codenam"},
           Case{"\n[state]\nlock = \"open\"\n", "line 3", "one of locked|unlocked"},
           Case{"[state]\nbattery_percent = \"full\"\n", "line 2", "is a number"},
           Case{"[phone]\ncodename = true\n", "line 2", "a text or a number"},
           Case{"[phone]\ncodename = { source = \"x\" }\n", "line 2", "has no value"},
           Case{"[rollback]\n32 = 1\n", "line 2", "0 to 31"},
           Case{"[partitions]\nboot = -1\n", "line 2", "a number is wanted"},
           Case{"phone = 3\n", "line 1", "no table of a sheet"},
           Case{"logical = 3\n", "line 1", "list of tables"},
           Case{"[access]\nrecovery = 3\n", "line 2", "is a text"},
       }) {
    CAPTURE(one.text);
    const Error error = refused(one.text);
    CHECK(error.file.starts_with("phone.toml"));
    const std::string said = describe(error);
    CHECK(said.find(one.line) != std::string::npos);
    CHECK(said.find(one.message) != std::string::npos);
  }
  CHECK(refused("format = 2\n").code == ErrorCode::Unsupported);
}

TEST_CASE("sheet: parse(write(x)) == x, and twice the same bytes, for any sheet") {
  Random random(7);
  const std::string texts[] = {"a",
                               "Tarn 3",
                               "with \"quotes\" and \\",
                               "Lauter drücken: „beide“",
                               "a\ttab",
                               "x # no comment",
                               "'''"};
  const auto any = [&] { return texts[random() % std::size(texts)]; };
  for (int round = 0; round < 200; ++round) {
    Sheet made;
    for (const FactKey& key : sheet_keys()) {
      if (random() % 3 == 0) continue;
      std::string value = any();
      if (key.kind == FactKind::Number) value = std::to_string(random() % 100000);
      if (key.kind == FactKind::Choice) value = key.choices.substr(0, key.choices.find('|'));
      REQUIRE(made.set(key.key(), value, random() % 2 == 0 ? "written by hand" : any()));
    }
    for (unsigned i = 0; i < random() % 4; ++i)
      made.partitions["part_" + std::to_string(i)] = random();
    for (unsigned i = 0; i < random() % 3; ++i)
      made.rollback[i] = random();
    for (unsigned i = 0; i < random() % 3; ++i)
      made.access.emplace_back("note" + std::to_string(i), any());
    for (unsigned i = 0; i < random() % 3; ++i) {
      made.logical.push_back({any(), random(), any()});
      made.groups.push_back({any(), random()});
    }
    const std::string text = format_sheet(made);
    CAPTURE(text);
    const Sheet again = sheet(text);
    CHECK(again.facts == made.facts);
    CHECK(again.partitions == made.partitions);
    CHECK(again.rollback == made.rollback);
    CHECK(again.access == made.access);
    CHECK(again.logical == made.logical);
    CHECK(again.groups == made.groups);
    CHECK(format_sheet(again) == text);
  }
}

TEST_CASE("sheet: a note that is no UTF-8 does not spoil the file") {
  Sheet made;
  made.access.emplace_back("notes", "bad \xff\xed\xa0\x80 end");
  CHECK(sheet(format_sheet(made)).note("notes").find(" end") != std::string::npos);
}

TEST_CASE("sheet: set takes only what suits the key") {
  Sheet made;
  CHECK(made.set("state.lock", "locked", "x"));
  CHECK_FALSE(made.set("state.lock", "perhaps", "x"));
  CHECK(made.text("state.lock") == "locked");
  CHECK(made.set("phone.model", "unknown", "x"));
  CHECK(made.text("phone.model").empty());
  CHECK_FALSE(made.set("phone.nothing", "x", "x"));
}

TEST_CASE("sheet: properties of a running system") {
  const Sheet got = sheet_from_properties(
      "some words of a console\n"
      "[ro.product.device]: [gnomon]\n[ro.product.model]: [Tarn 3]\n"
      "[ro.build.fingerprint]: [korvale/gnomon/gnomon:16/A/1:user/release-keys]\n"
      "[ro.product.cpu.abi]: [arm64-v8a]\n[ro.boot.slot_suffix]: [_b]\n"
      "[ro.boot.flash.locked]: [0]\n[ro.build.ab_update]: [true]\n"
      "[gsm.version.baseband]: [KVM-9,KVM-9]\n[ro.build.version.sdk]: [36]\n[empty]: []\n",
      "props.txt");
  CHECK(got.text("phone.codename") == "gnomon");
  CHECK(got.facts.at("phone.codename").source == "ro.product.device in props.txt");
  CHECK(got.text("build.fingerprint") == "korvale/gnomon/gnomon:16/A/1:user/release-keys");
  CHECK(got.text("phone.architecture") == "arm64");
  CHECK(got.text("state.current_slot") == "b");
  CHECK(got.text("state.lock") == "unlocked");
  CHECK(got.text("state.slots") == "2");
  CHECK(got.text("build.baseband") == "KVM-9");
  CHECK(got.number("build.sdk") == 36);
}

TEST_CASE("sheet: of a running system that leaves out the usual ones, others tell as much") {
  const Sheet got = sheet_from_properties(
      "ro.product.odm.device=gnomon\nro.product.cpu.abilist=armeabi-v7a,armeabi\n"
      "ro.system.build.fingerprint=korvale/gnomon/gnomon:16/A/1:user/release-keys\n"
      "ro.boot.slot_suffix=_a\n",
      "props.txt");
  CHECK(got.text("phone.codename") == "gnomon");
  CHECK(got.text("phone.architecture") == "arm");
  CHECK(got.text("build.fingerprint") == "korvale/gnomon/gnomon:16/A/1:user/release-keys");
  // Who starts from a slot has two.
  CHECK(got.text("state.slots") == "2");
  CHECK(got.facts.at("state.slots").source == "ro.boot.slot_suffix in props.txt");
}

TEST_CASE("sheet: variables of a bootloader, whatever stands before and between") {
  const Sheet got = sheet_from_properties(
      "(bootloader) product: gnomon\r\n"
      "(bootloader) current-slot:a\r\n(bootloader) unlocked:no\r\n(bootloader) slot-count:2\r\n"
      "(bootloader) partition-size:boot_a: 0x4000000\n(bootloader) partition-size:userdata:   "
      "2000000000\n"
      "(bootloader) partition-type:boot_a:raw\n(bootloader) is-logical:system_a:yes\n"
      "(bootloader) partition-size:system_a:0x1000\n(bootloader) partition-size:super:0x8000000\n"
      "(bootloader) partition-size:bad:zz\n(bootloader) max-download-size:0x10000000\n"
      "(bootloader) battery-voltage:4012mV\n(bootloader) anti:4\n"
      "(bootloader) snapshot-update-status:merging\nversion-baseband=M:9:1\n"
      "all:\nFinished. Total time: 0.033s\n",
      "vars.txt");
  CHECK(got.text("phone.product") == "gnomon");
  CHECK(got.text("state.lock") == "locked");
  CHECK(got.text("state.slots") == "2");
  CHECK(got.partitions.at("boot_a") == 0x4000000);
  CHECK(got.partitions.at("userdata") == 0x2000000000);
  CHECK_FALSE(got.partitions.contains("bad"));
  CHECK_FALSE(got.partitions.contains("system_a"));
  CHECK(got.logical == std::vector<LogicalPartition>{{"system_a", 0x1000, ""}});
  CHECK(got.number("super.size") == 0x8000000);
  CHECK(got.number("state.download_limit") == 0x10000000);
  CHECK(got.number("state.battery_millivolt") == 4012);
  CHECK(got.number("state.anti_rollback") == 4);
  CHECK(got.text("state.update") == "merging");
  CHECK(got.text("build.baseband") == "M:9:1");
}

TEST_CASE("sheet: a value with colons is the value, not a part of the name") {
  CHECK(sheet_from_properties("ro.build.fingerprint: a/b/c:16/D/1:user/k\n", "x")
            .text("build.fingerprint") == "a/b/c:16/D/1:user/k");
}

TEST_CASE("sheet: files of two bytes a character, as some consoles write them") {
  const std::string text = "[ro.product.device]: [gnomon]\r\n[ro.product.model]: [Tarn 3]\r\n";
  for (const std::string& one : {wide(text, false), wide(text, true), "\xef\xbb\xbf" + text}) {
    const Sheet got = sheet_from_properties(one, "x");
    CHECK(got.text("phone.codename") == "gnomon");
    CHECK(got.text("phone.model") == "Tarn 3");
  }
}

TEST_CASE("sheet: of several properties that say the same, the first that says something counts") {
  CHECK(
      sheet_from_properties("[ro.boot.vbmeta.device_state]: []\n[ro.boot.flash.locked]: [1]\n", "x")
          .text("state.lock") == "locked");
  CHECK(sheet_from_properties("ro.boot.verifiedbootstate=orange\n", "x").text("state.lock") ==
        "unlocked");
  CHECK(sheet_from_properties("ro.boot.verifiedbootstate=red\n", "x").text("state.lock").empty());
}

TEST_CASE("sheet: any bytes at all give a sheet, and one that can be written and read") {
  Random random(3);
  for (int round = 0; round < 300; ++round) {
    std::string bytes = noise(random() % 300, random());
    const char* words[] = {"\n", "[ro.product.device]: [", "partition-size:", ":", "=", "]"};
    for (int i = 0; i < 6; ++i)
      bytes.insert(random() % (bytes.size() + 1), words[random() % std::size(words)]);
    const Sheet got = sheet_from_properties(bytes, "x");
    const auto again = parse_sheet(format_sheet(got), "x");
    REQUIRE(again);
    CHECK(again->facts.size() == got.facts.size());
  }
}

TEST_CASE("sheet: an older sheet fills in what is not known now, and its notes stay") {
  Sheet now = sheet("[phone]\ncodename = \"new\"\n[partitions]\nboot = 1\n");
  now.merge(
      sheet("[phone]\ncodename = \"old\"\nmodel = \"Tarn\"\n[partitions]\nboot = 2\ndtbo = 3\n"
            "[access]\nunlock = \"hidden\"\n[[logical]]\nname = \"system\"\nsize = 5\n"));
  CHECK(now.text("phone.codename") == "new");
  CHECK(now.text("phone.model") == "Tarn");
  CHECK(now.partitions ==
        std::map<std::string, std::uint64_t, std::less<>>{{"boot", 1}, {"dtbo", 3}});
  CHECK(now.note("unlock") == "hidden");
  CHECK(now.logical.size() == 1);
}

TEST_CASE(
    "sheet: what a person wrote is written again as a person would, the rest with its source") {
  Sheet made;
  REQUIRE(made.set("phone.codename", "gnomon", "written by hand"));
  REQUIRE(made.set("phone.model", "Tarn 3", "the box"));
  const std::string text = format_sheet(made);
  CHECK(text.contains("codename = \"gnomon\"  #"));
  CHECK(text.contains("model = { value = \"Tarn 3\", source = \"the box\" }  #"));
}

TEST_CASE("sheet: a bootloader's words for yes") {
  for (const auto& [word, lock] : {std::pair{"yes", "unlocked"},
                                   {"true", "unlocked"},
                                   {"no", "locked"},
                                   {"false", "locked"}}) {
    CAPTURE(word);
    const Sheet got =
        sheet_from_properties("(bootloader) unlocked: " + std::string(word) + "\n", "x");
    CHECK(got.text("state.lock") == lock);
  }
}
