#include "kit/facts/fit.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <set>

#include "base/contains.hpp"
#include "firmware/build_names.hpp"
#include "firmware/firmware.hpp"
#include "kit/facts/build_order.hpp"
#include "kit/facts/fit_given.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

class Fitting : FitRows {
 public:
  Fitting(const FitFacts& facts, const Sheet& sheet, const std::vector<std::string>& accepted)
      : facts_(facts), sheet_(sheet), accepted_(accepted) {}

  std::vector<FitRow> run() {
    device();
    build();
    patch_level();
    rollback();
    anti_rollback();
    region();
    architecture();
    slots();
    layout();
    header_version();
    for (const std::string& line : facts_.demands)
      demand(line);
    for (const auto& [recipe, need] : facts_.needs)
      fit_needs(recipe, need, facts_, sheet_, *this);
    for (const FitGiven& one : facts_.given)
      fit_given(one, facts_, sheet_, *this);
    for (const FitImage& image : facts_.images)
      if (!image.logical) room(image);
    state();
    std::vector<FitRow> out = take();
    for (FitRow& row : out)
      row.accepted = row.level == Level::Problem && contains(accepted_, row.id.text());
    return out;
  }

 private:
  /// A set that names no device names a model: the phone's own may have more around it.
  void model() {
    const std::string& phone = sheet_.text("phone.model");
    add(FindingCode::FitDevice, "model", facts_.model, phone,
        judged(facts_.model, phone, phone.contains(facts_.model)), Level::Problem,
        "Images of another model do not start, and may leave the phone without a way to start "
        "anything.");
  }

  /// A codename, or what the bootloader calls the phone: packages name either.
  void device() {
    if (facts_.device.empty() && !facts_.model.empty()) return model();
    const std::string &codename = sheet_.text("phone.codename"),
                      &product = sheet_.text("phone.product");
    const auto wanted = alternatives(facts_.device);
    const bool same = suits(wanted, codename) || suits(wanted, product);
    const std::string phone = codename.empty() ? product
                              : product.empty() || product == codename
                                  ? codename
                                  : fmt::format("{} (bootloader: {})", codename, product);
    add(FindingCode::FitDevice, "device", facts_.device, phone, judged(facts_.device, phone, same),
        Level::Problem,
        "Images of another device do not start, and may leave the phone without a way to start "
        "anything.");
  }

  void build() {
    const std::string& phone = sheet_.text("build.fingerprint");
    std::string ours = facts_.build, theirs = phone;
    if ((ours.empty() || theirs.empty()) && !facts_.incremental.empty() &&
        !sheet_.text("build.incremental").empty()) {
      ours = facts_.incremental;
      theirs = sheet_.text("build.incremental");
    }
    const bool same = ours == theirs;
    const auto when = build_order(facts_, sheet_);
    const std::string age = !when       ? "another build"
                            : *when < 0 ? "an older build"
                                        : "a newer build";
    if (facts_.purpose == Purpose::Update) {
      FitRow& row = add(FindingCode::FitBuild, "build", ours, theirs, judged(ours, theirs, true),
                        {}, "The whole package is written first: the phone runs this build then.");
      if (row.verdict == FitVerdict::Fits && when && *when < 0) {
        row.verdict = FitVerdict::Differs;
        row.level = Level::Problem;
        row.why =
            "The package is older than what the phone runs: going back loses data, and many "
            "phones refuse it.";
      }
      return;
    }
    add(FindingCode::FitBuild, "build", ours, theirs, judged(ours, theirs, same), Level::Problem,
        same || theirs.empty() || ours.empty()
            ? "Kernel and ramdisk have to be of the build that the phone runs."
            : fmt::format("The firmware is {} than the phone runs: a kernel and a ramdisk of "
                          "another build loop or do not start.",
                          age));
  }

  /// An older one makes the key store refuse its keys, and the phone its own data.
  void patch_level() {
    const std::string& phone = sheet_.text("build.patch_level");
    const bool older = !phone.empty() && facts_.patch_level < phone;
    const bool bound = facts_.verified_boot || !sheet_.rollback.empty() ||
                       !sheet_.text("state.anti_rollback").empty();
    add(FindingCode::FitPatchLevel, "security patch level", facts_.patch_level, phone,
        judged(facts_.patch_level, phone, !older), bound ? Level::Problem : Level::Warning,
        bound ? "The phone is bound to the patch level it has seen: with an older one the key "
                "store refuses its keys and the user's data cannot be read."
              : "An older patch level may make the user's data unreadable.");
  }

  void rollback() {
    for (const auto& [location, index] : facts_.rollback) {
      const auto stored = sheet_.rollback.find(location);
      if (stored == sheet_.rollback.end()) {
        if (index != 0)
          add({FindingCode::FitRollback, fmt::format("{}", location)},
              fmt::format("rollback index {}", location), fmt::format("{}", index), "",
              FitVerdict::Unknown, {}, "A locked phone refuses an index below the one it stores.");
        continue;
      }
      add({FindingCode::FitRollback, fmt::format("{}", location)},
          fmt::format("rollback index {}", location), fmt::format("{}", index),
          fmt::format("{}", stored->second),
          index >= stored->second ? FitVerdict::Fits : FitVerdict::Differs,
          sheet_.text("state.lock") == "unlocked" ? Level::Warning : Level::Problem,
          "A locked phone refuses an index below the one it stores.");
    }
  }

  /// The number in the names of a download-mode set, against the same place of the phone's own
  /// bootloader version.
  void binary_number_of_set() {
    const auto phone = binary_number(sheet_.text("build.bootloader"));
    const auto text = [](const std::optional<unsigned>& value) {
      return value ? fmt::format("{}", *value) : std::string();
    };
    add(FindingCode::FitAntiRollback, "binary number", text(facts_.binary), text(phone),
        !phone                     ? FitVerdict::Unknown
        : *facts_.binary >= *phone ? FitVerdict::Fits
                                   : FitVerdict::Differs,
        Level::Problem,
        "A phone refuses a set whose binary number is below its bootloader's, and may be left "
        "without anything that starts.");
  }

  void anti_rollback() {
    if (facts_.binary) binary_number_of_set();
    const auto stored = sheet_.number("state.anti_rollback");
    if (!facts_.anti_rollback && !stored) return;
    const auto text = [](const std::optional<std::uint64_t>& value) {
      return value ? fmt::format("{}", *value) : std::string();
    };
    add(FindingCode::FitAntiRollback, "anti-rollback number", text(facts_.anti_rollback),
        text(stored),
        !facts_.anti_rollback || !stored   ? FitVerdict::Unknown
        : *facts_.anti_rollback >= *stored ? FitVerdict::Fits
                                           : FitVerdict::Differs,
        Level::Problem,
        "A phone whose number is higher than the firmware's may be left without anything that "
        "starts.");
  }

  void region() {
    const std::string& region = sheet_.text("phone.region");
    if (facts_.region.empty() && region.empty()) return;
    add(FindingCode::FitRegion, "region or variant", facts_.region, region,
        judged(facts_.region, region,
               facts_.region == region || facts_.region == sheet_.text("phone.variant")),
        Level::Problem,
        "Variants of one device differ in radio and vendor parts: the wrong one may start without "
        "network, or not at all.");
  }

  void architecture() {
    if (facts_.architecture.empty()) return;
    const std::string& phone = sheet_.text("phone.architecture");
    const bool same =
        facts_.architecture == phone || (facts_.architecture == "arm" && phone == "arm64");
    add(FindingCode::FitArchitecture, "architecture", facts_.architecture, phone,
        judged(facts_.architecture, phone, same), Level::Problem,
        "Programs for another processor cannot run.");
  }

  void slots() {
    if (!facts_.slotted) return;
    const std::string &slots = sheet_.text("state.slots"), ours = *facts_.slotted ? "2" : "1";
    add(FindingCode::FitSlots, "slots", ours, slots, judged(ours, slots, ours == slots),
        Level::Problem,
        "Images for a phone with two slots find no partitions on one without, and the other way "
        "round.");
  }

  [[nodiscard]] bool phone_has(std::string_view partition) const {
    return sheet_.size_of(partition).has_value();
  }

  /// A list of one or two sizes was not meant to be whole: what it leaves out may well be there.
  [[nodiscard]] bool phone_lacks(std::string_view partition) const {
    constexpr std::size_t kWhole = 3;
    std::set<std::string_view> names;
    for (const auto& [name, size] : sheet_.partitions)
      names.insert(without_slot(name));
    return names.size() >= kWhole && !phone_has(partition);
  }

  /// Which image has the first ramdisk depends on what partitions there are.
  void layout() {
    if (!phone_has("boot") || facts_.chain.empty()) return;
    const auto listed = [&](const auto& has) {
      std::string out;
      for (const std::string_view name : ramdisk_partitions(RamdiskOrder::Target))
        if (name != "recovery" && has(name)) out += (out.empty() ? "" : ", ") + std::string(name);
      return out;
    };
    const auto in_firmware = [&](std::string_view name) { return contains(facts_.chain, name); };
    const auto on_phone = [&](std::string_view name) { return phone_has(name); };
    // A package may leave out what it does not change; what it brings has to have a place.
    const bool homeless = in_firmware("init_boot") && phone_lacks("init_boot");
    const bool shadowed = in_firmware("boot") && !in_firmware("init_boot") && on_phone("init_boot");
    const bool vendorless = in_firmware("vendor_boot") && phone_lacks("vendor_boot");
    add(FindingCode::FitLayout, "boot chain", listed(in_firmware), listed(on_phone),
        homeless || shadowed || vendorless ? FitVerdict::Differs : FitVerdict::Fits, Level::Problem,
        shadowed ? "The phone takes its first ramdisk from init_boot, which this firmware does not "
                   "have."
                 : "Which image has the first ramdisk depends on the partitions that there are.");
  }

  void header_version() {
    if (!facts_.header_version || !phone_has("boot")) return;
    const bool newer = phone_has("vendor_boot"), ours = *facts_.header_version >= 3;
    if (!newer && !phone_lacks("vendor_boot")) return;
    add(FindingCode::FitHeaderVersion, "boot header version",
        fmt::format("{}", *facts_.header_version),
        newer ? "3 or 4 (it has vendor_boot)" : "0 to 2 (it has no vendor_boot)",
        newer == ours ? FitVerdict::Fits : FitVerdict::Differs, Level::Problem,
        "A loader does not start a boot image of a header that it does not know.");
  }

  void demand(const std::string& line) {
    const auto want = parse_demand(line);
    if (!want) {
      if (line == "ota-wipe=yes")
        add(FindingCode::FitWipes, "the package itself", "wipes the phone", "", FitVerdict::Unknown,
            {}, "Installed as a package, it erases the user's data.");
      if (line == "ota-downgrade=yes" || line == "spl-downgrade=yes")
        add(FindingCode::FitDowngrade, "the package itself", "is a downgrade", "",
            FitVerdict::Unknown, {}, "It is made to go back to an older build.");
      return;
    }
    if (!want->only_for.empty() && want->only_for != sheet_.text("phone.product") &&
        want->only_for != sheet_.text("phone.codename"))
      return;
    const std::string values = fmt::format("{}", fmt::join(want->values, " or "));
    if (want->kind == Demand::Kind::PartitionExists) {
      const bool there = phone_has(want->name), known = there || phone_lacks(want->name);
      add({FindingCode::FitDemand, "partition-" + want->name}, "partition " + want->name, "wanted",
          known ? (there ? "there" : "not there") : "",
          !known  ? FitVerdict::Unknown
          : there ? FitVerdict::Fits
                  : FitVerdict::Differs,
          Level::Problem, "The package says so itself.");
      return;
    }
    if (want->name == "board" || want->name == "product") return;  // the row "device" has it
    static const std::map<std::string, std::string, std::less<>> kKeys{
        {"version-bootloader", "build.bootloader"},
        {"version-baseband", "build.baseband"},
        {"variant", "phone.variant"},
        {"current-slot", "state.current_slot"},
        {"slot-count", "state.slots"}};
    const auto key = kKeys.find(want->name);
    const std::string phone = key == kKeys.end() ? std::string() : sheet_.text(key->second);
    const bool found = suits(want->values, phone);
    const bool rejects = want->kind == Demand::Kind::Reject;
    add({FindingCode::FitDemand, want->name}, want->name, (rejects ? "not " : "") + values, phone,
        phone.empty()      ? FitVerdict::Unknown
        : found != rejects ? FitVerdict::Fits
                           : FitVerdict::Differs,
        facts_.purpose == Purpose::Update ? Level::Warning : Level::Problem,
        "The package says so itself: it was made beside these versions.");
  }

  void room(const FitImage& image) {
    const auto size = sheet_.size_of(image.partition);
    const bool missing = image.partition == "init_boot" && phone_lacks("init_boot");
    add({FindingCode::FitPartitionSize, image.partition}, "size of " + image.partition,
        human_size(image.size),
        size      ? human_size(*size)
        : missing ? "no such partition"
                  : "",
        missing               ? FitVerdict::Differs
        : !size               ? FitVerdict::Unknown
        : image.size <= *size ? FitVerdict::Fits
                              : FitVerdict::Differs,
        Level::Problem, "What is larger than its partition is not written, or not whole.");
  }

  void state() {
    if (const std::string& update = sheet_.text("state.update"); !update.empty())
      add(FindingCode::FitUpdateRunning, "unfinished update", "none wanted", update,
          update == "none" ? FitVerdict::Fits : FitVerdict::Differs,
          update == "merging" ? Level::Problem : Level::Warning,
          update == "merging"
              ? "While an update is being merged, writing to either slot breaks the system: let "
                "the phone start and finish first."
              : "An update waits for its first start: what is written now goes under with it.");
    if (facts_.both_slots) other_slot();
    if (const std::string& enough = sheet_.text("state.battery_enough"); !enough.empty())
      add(FindingCode::FitBatteryLow, "battery", "enough to be written",
          enough == "yes" ? "enough" : "too low",
          enough == "yes" ? FitVerdict::Fits : FitVerdict::Differs, Level::Problem,
          "Its bootloader says that the charge does not suffice: charge it first.");
    constexpr std::uint64_t kEnough = 30;
    if (const auto charge = sheet_.number("state.battery_percent"))
      add(FindingCode::FitBattery, "battery", fmt::format("at least {} %", kEnough),
          fmt::format("{} %", *charge), *charge >= kEnough ? FitVerdict::Fits : FitVerdict::Differs,
          Level::Warning, "A phone that goes dark while it is written may not start again.");
  }

  /// Images of one build beside a system of another do not start.
  void other_slot() {
    const std::string& other = sheet_.text("build.other_slot");
    add(FindingCode::FitOtherSlot, "build in the other slot", facts_.build, other,
        judged(facts_.build, other, facts_.build == other), Level::Problem,
        "Both slots are written: images beside a system of another build loop or do not start.");
  }

  const FitFacts& facts_;
  const Sheet& sheet_;
  const std::vector<std::string>& accepted_;
};

}  // namespace

std::string_view verdict_name(FitVerdict verdict) {
  switch (verdict) {
    case FitVerdict::Fits: return "fits";
    case FitVerdict::Differs: return "differs";
    case FitVerdict::Unknown: return "unknown";
  }
  return {};
}

std::vector<FitRow> fit(const FitFacts& facts, const Sheet& sheet,
                        const std::vector<std::string>& accepted) {
  return Fitting(facts, sheet, accepted).run();
}

bool stops(const FitRow& row) {
  return row.verdict == FitVerdict::Differs && row.level == Level::Problem && !row.accepted;
}

}  // namespace wexlo
