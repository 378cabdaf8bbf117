#include "flash/kit_phone.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "flash/bench_phone.hpp"
#include "image/partitions.hpp"

namespace wexlo {
namespace {

/// What nobody has told: tables' room, and what is free in a super whose size is not known.
constexpr std::uint64_t kTables = std::uint64_t{1} << 20, kFree = std::uint64_t{64} << 20;

class KitPhoneMaker {
 public:
  explicit KitPhoneMaker(const KitPhoneInput& input) : in_(input) {}

  Result<std::unique_ptr<SimulatedPhone>> run(Faults faults, const Context& context) {
    read_sheet();
    find_product();
    // What is written may have no stock twin, and what stands beside it is not written.
    for (const auto& [name, image] : in_.stock)
      WEXLO_CHECK(place(name, image, 0));
    for (const KitImage& one : in_.images)
      if (one.written && !one.is_logical()) WEXLO_CHECK(place(one.partition, nullptr, one.size()));
    for (const char* name : {"userdata", "misc", "metadata"})
      WEXLO_CHECK(store_->add(name, kTables));
    WEXLO_CHECK(make_super());
    state_.download.there = in_.way == Way::Download;
    state_.restores_recovery = !in_.slotted && store_->size_of("recovery").has_value();
    auto phone = std::make_unique<SimulatedPhone>(std::move(state_), std::move(store_),
                                                  std::move(faults), context);
    if (in_.super != nullptr) WEXLO_CHECK(fill_super(*phone));
    phone->state.written.clear();
    return phone;
  }

 private:
  void read_sheet() {
    if (in_.sheet != nullptr) state_ = state_of_sheet(*in_.sheet);
    state_.slotted = in_.slotted;
    // What runs on the phone is as old as the firmware, or older: its images tell the level then,
    // in their own way.
    constexpr std::size_t kMonth = 7;  // YYYY-MM
    const std::string own = in_.patch_level.substr(0, kMonth);
    if (own.empty() || state_.data.bound_to <= own) state_.data.bound_to.clear();
  }

  /// What the sheet does not say is taken from what the plan expects: nobody knows better.
  void find_product() {
    for (const Step& step : in_.plan.steps) {
      const auto* want = step.get<act::Expect>();
      if (want == nullptr) continue;
      const std::string first = want->value.substr(0, want->value.find('|'));
      if (want->variable == "product" && state_.product.empty()) state_.product = first;
      const bool told = in_.sheet != nullptr && !in_.sheet->text("state.current_slot").empty();
      if (want->variable == "current-slot" && !told && !first.empty()) state_.slot = first;
    }
    if (state_.product.empty()) state_.product = in_.device;
  }

  /// @param least  bytes that the partition has at least
  Status place(const std::string& name, const SourcePtr& image, std::uint64_t least) {
    const std::string suffix(slot_suffix(name)), bare(without_slot(name));
    std::vector<std::string> names{name};
    if (in_.slotted && suffix.empty()) names = {bare + "_a", bare + "_b"};
    for (const std::string& one : names) {
      if (store_->size_of(one)) continue;
      std::uint64_t size = image == nullptr ? least : image->size();
      const auto told = in_.sheet == nullptr ? std::nullopt : in_.sheet->size_of(one);
      if (told) size = image == nullptr ? *told : std::max(size, *told);
      WEXLO_CHECK(store_->add(one, size));
      if (image != nullptr) WEXLO_CHECK(store_->put(one, {{0, image->size(), image, 0}}));
    }
    return {};
  }

  Status make_super() {
    if (in_.super == nullptr) return {};
    const SuperFacts& facts = in_.super->before;
    // What is told is the room of its partitions, without that of the tables.
    WEXLO_CHECK(add_super(*store_, kTables + facts.size, facts.groups, facts.partitions,
                          facts.size == 0 ? kFree : 0));
    return {};
  }

  /// The stock contents of what will be written.
  Status fill_super(SimulatedPhone& phone) const {
    for (const KitImage& one : in_.images) {
      const auto at = in_.stock.find(one.partition);
      if (!one.is_logical() || at == in_.stock.end()) continue;
      const auto room = phone.size_of(one.logical);
      if (room && at->second->size() <= *room) WEXLO_CHECK(phone.replace(one.logical, at->second));
    }
    return {};
  }

  const KitPhoneInput& in_;
  PhoneState state_;
  StorePtr store_ = std::make_unique<MemoryStore>();
};

}  // namespace

Result<std::unique_ptr<SimulatedPhone>> make_kit_phone(const KitPhoneInput& input, Faults faults,
                                                       const Context& context) {
  return KitPhoneMaker(input).run(std::move(faults), context);
}

}  // namespace wexlo
