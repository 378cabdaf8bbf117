/// What a simulated phone tells of itself.

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "image/partitions.hpp"
#include "phone/simulated/simulated_phone.hpp"

namespace wexlo {
namespace {

constexpr unsigned kLeastBattery = 15;

std::string yes_no(bool yes) {
  return yes ? "yes" : "no";
}

/// A variable of a partition or a slot: `partition-size:boot_a`.
std::optional<std::string> behind(const std::string& name, std::string_view what) {
  if (!name.starts_with(what)) return std::nullopt;
  return name.substr(what.size());
}

}  // namespace

Result<std::optional<std::string>> SimulatedPhone::variable(const std::string& name) {
  WEXLO_CHECK(begin("getvar:" + name));
  if (state.silent.contains(name)) return std::nullopt;
  if (const auto at = state.variables.find(name); at != state.variables.end()) return at->second;
  return worked_out(name);
}

std::optional<std::string> SimulatedPhone::worked_out(const std::string& name) {
  constexpr unsigned kEmptyMillivolt = 3400, kMillivoltAPercent = 8;
  const bool userspace = state.mode == PhoneMode::Userspace;
  if (name == "version") return "0.4";
  if (name == "product" && !state.product.empty()) return state.product;
  if (name == "variant" && !state.variant.empty()) return state.variant;
  if (name == "serialno") return state.serial;
  if (name == "secure") return "yes";
  if (name == "unlocked") return yes_no(!state.locked);
  if (name == "is-userspace") return yes_no(userspace);
  if (name == "slot-count") return state.slotted ? "2" : "0";
  if (name == "max-download-size") return fmt::format("{:#x}", state.download_limit);
  if (name == "battery-voltage")
    return fmt::format("{}", kEmptyMillivolt + kMillivoltAPercent * state.battery);
  if (name == "battery-soc-ok") return yes_no(state.battery >= kLeastBattery);
  if (name == "super-partition-name" && store_->size_of("super")) return "super";
  if (name == "max-fetch-size" && (state.gives_back == ReadingBack::Everywhere ||
                                   (userspace && state.gives_back == ReadingBack::Userspace)))
    return fmt::format("{:#x}", state.fetch_limit);
  if (auto of = of_slot(name)) return of;
  return of_partition(name);
}

std::optional<std::string> SimulatedPhone::of_slot(const std::string& name) const {
  if (!state.slotted) return std::nullopt;
  if (name == "current-slot") return state.slot;
  if (name == "snapshot-update-status") return std::string(update_word(state.update));
  const auto marks = [&](std::string_view what) -> std::optional<SlotMarks> {
    const auto slot = behind(name, what);
    if (!slot || (*slot != "a" && *slot != "b")) return std::nullopt;
    return marks_of(*slot);
  };
  if (const auto of = marks("slot-successful:")) return yes_no(of->successful);
  if (const auto of = marks("slot-unbootable:")) return yes_no(of->unbootable);
  if (const auto of = marks("slot-retry-count:")) return fmt::format("{}", of->tries);
  return std::nullopt;
}

std::optional<std::string> SimulatedPhone::of_partition(const std::string& name) {
  if (const auto bare = behind(name, "has-slot:")) return yes_no(size_of(*bare + "_a").has_value());
  const auto named = [&](std::string_view what) -> std::string {
    const auto partition = behind(name, what);
    return partition ? full_name(*partition) : "";
  };
  if (const std::string one = named("partition-size:"); !one.empty())
    return fmt::format("{:#x}", *size_of(one));
  if (const std::string one = named("partition-type:"); !one.empty()) return "raw";
  if (const std::string one = named("is-logical:"); !one.empty()) return yes_no(is_logical(one));
  return std::nullopt;
}

std::vector<std::pair<std::string, std::string>> SimulatedPhone::variables() {
  constexpr std::array kPlain{"version",
                              "product",
                              "variant",
                              "serialno",
                              "secure",
                              "unlocked",
                              "is-userspace",
                              "slot-count",
                              "current-slot",
                              "max-download-size",
                              "battery-voltage",
                              "battery-soc-ok",
                              "super-partition-name",
                              "max-fetch-size",
                              "snapshot-update-status"};
  std::vector<std::pair<std::string, std::string>> out;
  const auto tell = [&](const std::string& name) {
    if (state.silent.contains(name) || state.variables.contains(name)) return;
    if (auto value = worked_out(name)) out.emplace_back(name, std::move(*value));
  };
  for (const auto& [name, value] : state.variables)
    if (!state.silent.contains(name)) out.emplace_back(name, value);
  for (const char* name : kPlain)
    tell(name);
  for (const char* slot : {"a", "b"})
    for (const char* what : {"slot-successful:", "slot-unbootable:", "slot-retry-count:"})
      tell(std::string(what) + slot);
  std::set<std::string> bare;
  for (const std::string& partition : partitions()) {
    for (const char* what : {"partition-size:", "partition-type:", "is-logical:"})
      tell(what + partition);
    if (bare.insert(std::string(without_slot(partition))).second)
      tell("has-slot:" + std::string(without_slot(partition)));
  }
  return out;
}

}  // namespace wexlo
