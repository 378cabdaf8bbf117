#include "kit/facts/fit_given.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "kit/facts/build_order.hpp"
#include "text/text.hpp"

namespace wexlo {

void fit_given(const FitGiven& one, const FitFacts& facts, const Sheet& sheet, FitRows& rows) {
  const std::string& name = one.partition;
  const std::string& arch = sheet.text("phone.architecture").empty()
                                ? facts.architecture
                                : sheet.text("phone.architecture");
  const bool runs = one.architecture == arch || (one.architecture == "arm" && arch == "arm64");
  if (!one.architecture.empty())
    rows.add({FindingCode::FitGivenArchitecture, name}, fmt::format("given {}: architecture", name),
             one.architecture, arch, FitRows::judged(one.architecture, arch, runs), Level::Problem,
             "Programs for another processor cannot run.");
  if (one.slotted) {
    const std::string slots = !sheet.text("state.slots").empty() ? sheet.text("state.slots")
                              : facts.slotted                    ? (*facts.slotted ? "2" : "1")
                                                                 : "";
    const std::string ours = *one.slotted ? "2" : "1";
    rows.add({FindingCode::FitGivenSlots, name}, fmt::format("given {}: slots", name), ours, slots,
             FitRows::judged(ours, slots, ours == slots), Level::Problem,
             "A system for the other kind of slots does not find its partitions.");
  }
  if (!one.device.empty()) {
    const std::string phone =
        sheet.text("phone.codename").empty() ? facts.device : sheet.text("phone.codename");
    rows.add({FindingCode::FitGivenDevice, name}, fmt::format("given {}: device", name), one.device,
             phone,
             FitRows::judged(
                 one.device, phone,
                 suits(alternatives(one.device), phone) || suits(alternatives(phone), one.device)),
             Level::Problem, "It says for which device it was made.");
  }
  if (one.header_version && one.wanted_version)
    rows.add({FindingCode::FitGivenHeader, name}, fmt::format("given {}: header version", name),
             fmt::format("{}", *one.header_version), fmt::format("{}", *one.wanted_version),
             *one.header_version == *one.wanted_version ? FitVerdict::Fits : FitVerdict::Differs,
             Level::Problem,
             "A loader does not start a boot image of a header that it does not know.");
  if (one.of_the_build && !one.build.empty())
    rows.add({FindingCode::FitGivenBuild, name}, fmt::format("given {}: build", name), one.build,
             facts.build, FitRows::judged(one.build, facts.build, one.build == facts.build),
             Level::Problem,
             "It stands beside images of the firmware, which have to be of the same build.");
  const std::string& level =
      sheet.text("build.patch_level").empty() ? facts.patch_level : sheet.text("build.patch_level");
  if (!one.patch_level.empty())
    rows.add(
        {FindingCode::FitGivenPatchLevel, name},
        fmt::format("given {}: security patch level", name), one.patch_level, level,
        FitRows::judged(one.patch_level, level, one.patch_level >= level), Level::Warning,
        "The key store is bound to the patch level it has seen: with an older one it may refuse "
        "its keys.");
}

void fit_needs(const std::string& recipe, const PhoneNeeds& need, const FitFacts& facts,
               const Sheet& sheet, FitRows& rows) {
  const auto row = [&](const char* code, const char* what, const std::vector<std::string>& wanted,
                       const std::string& phone, bool fits) {
    if (wanted.empty()) return;
    rows.add({FindingCode::FitRecipeNeeds, code}, what,
             fmt::format("{}", fmt::join(wanted, " or ")), phone,
             phone.empty() ? FitVerdict::Unknown
             : fits        ? FitVerdict::Fits
                           : FitVerdict::Differs,
             Level::Problem, fmt::format("The recipe {} says so in its [needs].", recipe));
  };
  const std::string& print = sheet.text("build.fingerprint");
  const std::string& build = print.empty() ? facts.build : print;
  const bool one = std::ranges::any_of(need.builds, [&](const std::string& wanted) {
    if (suits({wanted}, build) || suits({wanted}, incremental_of(build))) return true;
    return build.find("/" + wanted + "/") != build.npos ||
           build.find(":" + wanted + "/") != build.npos;
  });
  row("build", "base version", need.builds, build, one);
  const std::string& baseband = sheet.text("build.baseband");
  row("baseband", "baseband ending", need.basebands, baseband,
      std::ranges::any_of(need.basebands,
                          [&](const std::string& end) { return baseband.ends_with(end); }));
  const std::string& chipset = sheet.text("phone.chipset");
  row("chipset", "chipset", need.chipsets, chipset, suits(need.chipsets, chipset));
}

}  // namespace wexlo
