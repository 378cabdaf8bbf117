#include "kit/facts/fit.hpp"

#include <algorithm>

#include "support/check.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

constexpr const char* kBuild = "korvale/gnomon/gnomon:16/KV3A.1/20260905:user/release-keys";

/// A firmware and a phone that fit in everything.
struct Pair {
  FitFacts firmware;
  Sheet phone;
  std::vector<std::string> accepted;

  Pair() {
    firmware.device = "gnomon";
    firmware.build = kBuild;
    firmware.patch_level = "2026-09-05";
    firmware.architecture = "arm64";
    firmware.slotted = true;
    firmware.header_version = 4;
    firmware.chain = {"boot", "init_boot", "vendor_boot", "vbmeta"};
    firmware.images = {{"init_boot", 8u << 20, false}};
    put("phone.codename", "gnomon");
    put("phone.architecture", "arm64");
    put("build.fingerprint", kBuild);
    put("build.patch_level", "2026-09-05");
    put("state.slots", "2");
    put("state.lock", "unlocked");
    for (const char* name : {"boot_a", "init_boot_a", "vendor_boot_a", "vbmeta_a"})
      phone.partitions[name] = 64u << 20;
  }
  void put(const char* key, const std::string& value) { REQUIRE(phone.set(key, value, "test")); }
  void forget(const char* key) { phone.facts.erase(key); }

  static std::string text_of(const FitRow& row) { return row.id.text(); }
  [[nodiscard]] std::vector<FitRow> rows() const { return fit(firmware, phone, accepted); }
  [[nodiscard]] std::string stopped_by() const {
    std::string out;
    for (const FitRow& row : rows())
      if (stops(row)) out += (out.empty() ? "" : " ") + row.id.text();
    return out;
  }
  [[nodiscard]] FitRow row(const std::string& code) const {
    const auto all = rows();
    const auto at = std::ranges::find(all, code, text_of);
    REQUIRE_MESSAGE(at != all.end(), code);
    return *at;
  }
  [[nodiscard]] bool has(const std::string& code) const {
    const auto all = rows();
    return std::ranges::find(all, code, text_of) != all.end();
  }
};

}  // namespace

TEST_CASE(
    "fit: a phone that runs the very build: nothing stops, and every row says why it matters") {
  const Pair pair;
  CHECK(pair.stopped_by().empty());
  for (const FitRow& row : pair.rows()) {
    CAPTURE(row.id.text());
    CHECK(row.verdict == FitVerdict::Fits);
    CHECK_FALSE(row.level);
    CHECK_FALSE(row.why.empty());
    CHECK_FALSE(row.what.empty());
  }
}

TEST_CASE("fit: an empty sheet knows nothing: that is unknown, and stops nothing") {
  Pair pair;
  pair.phone = {};
  CHECK(pair.stopped_by().empty());
  for (const FitRow& row : pair.rows())
    CHECK(row.verdict == FitVerdict::Unknown);
}

TEST_CASE("fit: each thing that differs stops by itself, under its own code") {
  struct Case {
    const char* code;
    void (*spoil)(Pair&);
  };
  for (const Case& one : {
           Case{"device", [](Pair& p) { p.put("phone.codename", "vernier"); }},
           Case{"build",
                [](Pair& p) {
                  p.put("build.fingerprint", "korvale/gnomon/gnomon:16/KV3A.2/20260905:user/k");
                }},
           Case{"architecture", [](Pair& p) { p.firmware.architecture = "x86_64"; }},
           Case{"slots", [](Pair& p) { p.put("state.slots", "1"); }},
           Case{"region",
                [](Pair& p) {
                  p.firmware.region = "EU";
                  p.put("phone.region", "JP");
                }},
           Case{"anti-rollback",
                [](Pair& p) {
                  p.firmware.anti_rollback = 3;
                  p.put("state.anti_rollback", "4");
                }},
           Case{"layout",
                [](Pair& p) {
                  p.firmware.chain = {"boot", "vendor_boot"};
                }},
           Case{"header-version", [](Pair& p) { p.firmware.header_version = 2; }},
           Case{"partition-size-init_boot", [](Pair& p) { p.phone.partitions["init_boot_a"] = 1; }},
           Case{"update-running", [](Pair& p) { p.put("state.update", "merging"); }},
           Case{"battery-low", [](Pair& p) { p.put("state.battery_enough", "no"); }},
           Case{"demand-version-baseband",
                [](Pair& p) {
                  p.firmware.demands = {"require version-baseband=KVM-9|KVM-8"};
                  p.put("build.baseband", "KVM-7");
                }},
           Case{"demand-variant",
                [](Pair& p) {
                  p.firmware.demands = {"reject variant=jp"};
                  p.put("phone.variant", "jp");
                }},
           Case{"demand-partition-dtbo",
                [](Pair& p) { p.firmware.demands = {"require partition-exists=dtbo"}; }},
           Case{"other-slot",
                [](Pair& p) {
                  p.firmware.both_slots = true;
                  p.put("build.other_slot", "korvale/gnomon/gnomon:15/KV2/1:user/k");
                }},
       }) {
    CAPTURE(one.code);
    Pair pair;
    one.spoil(pair);
    CHECK(pair.stopped_by() == one.code);
    pair.accepted = {one.code};
    CHECK(pair.stopped_by().empty());
    CHECK(pair.row(one.code).accepted);
    CHECK(pair.row(one.code).verdict == FitVerdict::Differs);
    pair.accepted = {"another"};
    CHECK(pair.stopped_by() == one.code);
  }
}

TEST_CASE("fit: newer and older builds are told by patch level, then by build number") {
  Pair pair;
  pair.put("build.fingerprint", "korvale/gnomon/gnomon:16/KV3A.2/20261005:user/release-keys");
  CHECK(pair.row("build").why.find("older build") != std::string::npos);
  pair.put("build.fingerprint", "korvale/gnomon/gnomon:16/KV3A.0/20260705:user/release-keys");
  CHECK(pair.row("build").why.find("newer build") != std::string::npos);
  pair.put("build.patch_level", "2026-10-05");
  CHECK(pair.row("build").why.find("older build") != std::string::npos);
  pair.put("build.fingerprint", "korvale/gnomon/gnomon:16/KV3A.B/x:user/release-keys");
  pair.put("build.patch_level", "2026-09-05");
  CHECK(pair.row("build").why.find("another build") != std::string::npos);
}

TEST_CASE("fit: an older patch level is a problem where the phone is bound to it, else a warning") {
  Pair pair;
  pair.put("build.patch_level", "2026-10-05");
  CHECK(pair.row("patch-level").level == Level::Warning);
  Pair verified = pair;
  verified.firmware.verified_boot = true;
  CHECK(verified.row("patch-level").level == Level::Problem);
  Pair counted = pair;
  counted.phone.rollback[0] = 1;
  CHECK(counted.row("patch-level").level == Level::Problem);
  Pair newer;
  newer.put("build.patch_level", "2026-08-05");
  CHECK(newer.row("patch-level").verdict == FitVerdict::Fits);
}

TEST_CASE("fit: a rollback index below the stored one stops a locked phone alone") {
  Pair pair;
  pair.firmware.rollback = {{0, 5}, {2, 9}};
  pair.phone.rollback = {{0, 6}};
  CHECK(pair.row("rollback-0").level == Level::Warning);
  CHECK(pair.row("rollback-2").verdict == FitVerdict::Unknown);
  pair.put("state.lock", "locked");
  CHECK(pair.stopped_by() == "rollback-0");
  pair.phone.rollback[0] = 5;
  CHECK(pair.row("rollback-0").verdict == FitVerdict::Fits);
}

TEST_CASE("fit: packages name codenames or what the bootloader says, and several devices") {
  Pair pair;
  pair.firmware.device = "vernier|gnomon_eu";
  pair.put("phone.product", "gnomon_eu");
  CHECK(pair.row("device").verdict == FitVerdict::Fits);
  pair.firmware.device = "vernier,gnomon";
  CHECK(pair.row("device").verdict == FitVerdict::Fits);
  pair.firmware.device = "gno";
  CHECK(pair.row("device").verdict == FitVerdict::Differs);
}

TEST_CASE("fit: a whole new build may be newer, and may not be older") {
  Pair pair;
  pair.firmware.purpose = Purpose::Update;
  pair.put("build.fingerprint", "korvale/gnomon/gnomon:16/KV3A.0/20260805:user/release-keys");
  pair.put("build.patch_level", "2026-08-05");
  CHECK(pair.stopped_by().empty());
  pair.put("build.patch_level", "2026-10-05");
  CHECK(pair.stopped_by() == "build");
  CHECK(pair.row("build").why.find("going back") != std::string::npos);
}

TEST_CASE("fit: demands for another product are not for this phone; others are told as they are") {
  Pair pair;
  pair.firmware.demands = {"require-for-product:vernier version-bootloader=1", "ota-wipe=yes",
                           "ota-downgrade=yes", "some other text", "require board=gnomon"};
  pair.put("build.bootloader", "2");
  CHECK(pair.stopped_by().empty());
  CHECK_FALSE(pair.has("demand-version-bootloader"));
  CHECK_FALSE(pair.has("demand-board"));
  CHECK(pair.has("wipes"));
  CHECK(pair.has("downgrade"));
  pair.firmware.demands = {"require version-bootloader=2*"};
  CHECK(pair.row("demand-version-bootloader").verdict == FitVerdict::Fits);
}

TEST_CASE("fit: what a recipe needs of the phone") {
  Pair pair;
  pair.firmware.needs = {{"tools", {{"KV3A.1"}, {"-EU"}, {"KV900"}}}};
  CHECK(pair.row("recipe-needs-build").verdict == FitVerdict::Fits);
  CHECK(pair.row("recipe-needs-baseband").verdict == FitVerdict::Unknown);
  pair.put("build.baseband", "KVM-9.4-EU");
  pair.put("phone.chipset", "KV800");
  CHECK(pair.row("recipe-needs-baseband").verdict == FitVerdict::Fits);
  CHECK(pair.stopped_by() == "recipe-needs-chipset");
  CHECK(pair.row("recipe-needs-chipset").why.find("tools") != std::string::npos);
  pair.firmware.needs = {{"tools", {{"20260905"}, {}, {}}}};
  CHECK(pair.stopped_by().empty());
  pair.firmware.needs = {{"tools", {{"KV3A"}, {}, {}}}};
  CHECK(pair.stopped_by() == "recipe-needs-build");
}

TEST_CASE("fit: what was brought along is held against phone and firmware") {
  Pair pair;
  pair.firmware.given = {{.partition = "system",
                          .build = "other",
                          .patch_level = "2026-08-05",
                          .device = "",
                          .architecture = "arm",
                          .slotted = false}};
  CHECK(pair.stopped_by() == "given-slots-system");
  CHECK(pair.row("given-architecture-system").verdict == FitVerdict::Fits);  // arm64 runs it
  CHECK(pair.row("given-patch-level-system").level == Level::Warning);
  CHECK_FALSE(pair.has("given-build-system"));
  pair.firmware.given = {{.partition = "recovery",
                          .build = {},
                          .patch_level = {},
                          .device = "vernier",
                          .architecture = "x86"}};
  CHECK(pair.stopped_by() == "given-architecture-recovery given-device-recovery");
  pair.firmware.given = {{.partition = "boot",
                          .build = "other",
                          .patch_level = {},
                          .device = {},
                          .architecture = {},
                          .header_version = 2,
                          .wanted_version = 4,
                          .of_the_build = true}};
  CHECK(pair.stopped_by() == "given-header-boot given-build-boot");
}

TEST_CASE("fit: a phone without vendor_boot wants an older header, one with it a newer one") {
  Pair pair;
  pair.firmware.header_version = 3;
  CHECK(pair.row("header-version").verdict == FitVerdict::Fits);
  pair.phone.partitions.erase("vendor_boot_a");
  pair.phone.partitions["dtbo_a"] = 1u << 20;
  CHECK(pair.row("header-version").verdict == FitVerdict::Differs);
  CHECK(pair.row("layout").verdict == FitVerdict::Differs);
  // Neither do two sizes, written down for these two images.
  pair.phone.partitions = {{"boot_a", 64u << 20}, {"boot_b", 64u << 20}, {"init_boot_a", 8u << 20}};
  CHECK_FALSE(pair.has("header-version"));
  CHECK(pair.row("layout").verdict == FitVerdict::Fits);
  CHECK(pair.stopped_by().empty());
  // A phone that lists no boot lists nothing that could be relied on.
  pair.phone.partitions.clear();
  pair.phone.partitions["userdata"] = 5;
  CHECK_FALSE(pair.has("header-version"));
  CHECK_FALSE(pair.has("layout"));
}

TEST_CASE("demands: the lines of an info text, and values that end in a star") {
  const auto one = parse_demand("require version-baseband=A|B*");
  REQUIRE(one);
  CHECK(one->name == "version-baseband");
  CHECK(one->values == std::vector<std::string>{"A", "B*"});
  CHECK(suits(one->values, "A"));
  CHECK(suits(one->values, "B2"));
  CHECK_FALSE(suits(one->values, "A2"));
  const auto product = parse_demand("require-for-product:gnomon board=x");
  REQUIRE(product);
  CHECK(product->only_for == "gnomon");
  CHECK(parse_demand("reject board=x")->kind == Demand::Kind::Reject);
  CHECK(parse_demand("require partition-exists=dtbo")->name == "dtbo");
  for (const char* bad : {"", "require", "require x", "require =y", "require x=", "require a b=c",
                          "require-for-product:x", "anything else=1"})
    CHECK_FALSE(parse_demand(bad));
}

TEST_CASE("fit: a code is accepted by its whole name") {
  Pair pair;
  pair.put("state.battery_enough", "no");
  pair.put("state.battery_percent", "10");
  pair.put("state.lock", "locked");
  pair.firmware.rollback = {{1, 5}, {10, 5}};
  pair.phone.rollback = {{1, 6}, {10, 6}};
  CHECK(pair.stopped_by() == "rollback-1 rollback-10 battery-low");
  pair.accepted = {"battery", "rollback-1"};
  CHECK(pair.stopped_by() == "rollback-10 battery-low");
  CHECK_FALSE(pair.row("battery-low").accepted);
  CHECK_FALSE(pair.row("rollback-10").accepted);
  pair.accepted = {"battery-lo", "rollback"};
  CHECK(pair.stopped_by() == "rollback-1 rollback-10 battery-low");
}

TEST_CASE("fit: equal numbers fit, one less does not") {
  Pair pair;
  pair.firmware.anti_rollback = 4;
  for (const auto& [stored, fits] : {std::pair{"3", true}, {"4", true}, {"5", false}}) {
    CAPTURE(stored);
    pair.put("state.anti_rollback", stored);
    CHECK((pair.row("anti-rollback").verdict == FitVerdict::Fits) == fits);
  }
  pair.put("build.patch_level", "2026-09-05");
  CHECK(pair.row("patch-level").verdict == FitVerdict::Fits);
  for (const auto& [percent, fits] : {std::pair{"29", false}, {"30", true}}) {
    pair.put("state.battery_percent", percent);
    CHECK((pair.row("battery").verdict == FitVerdict::Fits) == fits);
  }
}

TEST_CASE("fit: an image for a partition that the phone does not have") {
  Pair pair;
  CHECK(pair.row("partition-size-init_boot").verdict == FitVerdict::Fits);
  pair.phone.partitions.erase("init_boot_a");
  const FitRow row = pair.row("partition-size-init_boot");
  CHECK(row.verdict == FitVerdict::Differs);
  CHECK(row.phone == "no such partition");
  // Of a phone with two known partitions nothing is known of the others.
  pair.phone.partitions.erase("vendor_boot_a");
  CHECK(pair.row("partition-size-init_boot").verdict == FitVerdict::Unknown);
}

TEST_CASE("fit: a 64-bit phone runs 32-bit programs, and not the other way round") {
  Pair pair;
  pair.firmware.architecture = "arm";
  CHECK(pair.row("architecture").verdict == FitVerdict::Fits);
  pair.firmware.architecture = "arm64";
  pair.put("phone.architecture", "arm");
  CHECK(pair.row("architecture").verdict == FitVerdict::Differs);
}

TEST_CASE("fit: which of two builds is the older: by patch level, else by numbers of one form") {
  const auto told = [](const std::string& ours, const std::string& phone_level) {
    Pair pair;
    pair.firmware.build = "korvale/gnomon/gnomon:16/KV3A.1/" + ours + ":user/release-keys";
    pair.forget("build.patch_level");
    if (!phone_level.empty()) pair.put("build.patch_level", phone_level);
    const FitRow row = pair.row("build");
    const std::string all = row.firmware + row.phone + row.why;
    return all.contains("older build")     ? "older"
           : all.contains("newer build")   ? "newer"
           : all.contains("another build") ? "another"
                                           : "?";
  };
  // The phone runs 20260905; the firmware's patch level is of 2026-09-05.
  CHECK(told("20260805", "") == std::string("older"));
  CHECK(told("20261005", "") == std::string("newer"));
  CHECK(told("20260805", "2026-08-05") == std::string("newer"));
  CHECK(told("3", "") == std::string("another"));
  CHECK(told("x1", "") == std::string("another"));
}

TEST_CASE("fit: a package that says it is a downgrade, in either word") {
  for (const char* line : {"ota-downgrade=yes", "spl-downgrade=yes"}) {
    Pair pair;
    CHECK_FALSE(pair.has("downgrade"));
    pair.firmware.demands = {line};
    CHECK(pair.has("downgrade"));
  }
}
