#include "flash/bench_phone.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/contains.hpp"
#include "image/partitions.hpp"
#include "kit/facts/shape.hpp"

namespace wexlo {
namespace {

constexpr std::uint64_t kMiB = std::uint64_t{1} << 20;
/// What no firmware brings, and every phone has.
constexpr std::uint64_t kUserData = 16 * kMiB;

class BenchPhone {
 public:
  BenchPhone(PartitionStore& store, const Sheet* sheet, const Firmware* firmware,
             const Context& context)
      : store_(store), sheet_(sheet), firmware_(firmware), context_(context) {}

  Result<PhoneState> run() {
    if (sheet_ != nullptr) state_ = state_of_sheet(*sheet_);
    shape();
    if (firmware_ != nullptr) WEXLO_CHECK(from_firmware());
    if (sheet_ != nullptr)
      for (const auto& [name, size] : sheet_->partitions)
        if (!store_.size_of(name)) WEXLO_CHECK(store_.add(name, size));
    WEXLO_CHECK(make_super());
    for (const char* name : {"userdata", "misc", "metadata"})
      if (!store_.size_of(name)) WEXLO_CHECK(store_.add(name, kUserData));
    return std::move(state_);
  }

 private:
  void shape() {
    if (firmware_ != nullptr) {
      const PhoneShape shape = shape_of(*firmware_, {}, sheet_);
      state_.slotted = shape.slotted.value_or(state_.slotted);
      state_.download.there = shape.way == Way::Download;
      if (state_.product.empty()) state_.product = firmware_->build.device;
      // Its own images tell the level of its data.
      state_.data.bound_to.clear();
    } else if (sheet_ != nullptr) {
      state_.slotted = sheet_->text("state.slots") != "1";
      state_.download.there = sheet_->text("phone.mode") == "download";
    }
    state_.restores_recovery = !state_.slotted;
    if (state_.slotted) state_.slots = {{"a", {}}, {"b", {}}};
  }

  [[nodiscard]] bool is_logical(const std::string& name) const {
    const auto named = [&](const std::string& one) {
      return without_slot(one) == without_slot(name);
    };
    if (sheet_ != nullptr &&
        std::ranges::any_of(sheet_->logical, [&](const auto& one) { return named(one.name); }))
      return true;
    return std::ranges::any_of(firmware_->groups, [&](const Group& group) {
      return std::ranges::any_of(group.partitions, named);
    });
  }

  Status from_firmware() {
    const bool whole_super = firmware_->find("super") != nullptr;
    for (const PartitionFacts& one : firmware_->partitions) {
      if (!one.inside.empty() || one.name == "userdata") continue;
      const auto source = one.content->source(context_);
      if (!source && source.error().code == ErrorCode::Interrupted) return fail(source.error());
      if (!source) continue;  // what cannot be read is not on this phone
      if (!whole_super && is_logical(one.name))
        logical_.emplace_back(one.name, *source);
      else
        WEXLO_CHECK(place(one.name, *source));
    }
    return {};
  }

  Status place(const std::string& name, const SourcePtr& source) {
    const bool both = state_.slotted && slot_suffix(name).empty() && name != "super";
    const std::vector<std::string> names =
        both ? std::vector{name + "_a", name + "_b"} : std::vector{name};
    for (const std::string& one : names) {
      const auto told = sheet_ == nullptr ? std::nullopt : sheet_->size_of(one);
      WEXLO_CHECK(store_.add(one, std::max(source->size(), told.value_or(0))));
      WEXLO_CHECK(store_.put(one, {{0, source->size(), source, 0}}));
    }
    return {};
  }

  /// As the sheet has it, else as large as what the firmware brings.
  Status make_super() {
    if (store_.size_of("super")) return {};
    std::vector<LogicalPartition> rows;
    if (sheet_ != nullptr) rows = sheet_->logical;
    const std::string slot = state_.slotted ? "_" + state_.slot : "";
    for (const auto& [name, source] : logical_) {
      const std::string full = slot_suffix(name).empty() ? name + slot : name;
      if (!contains(rows, full, &LogicalPartition::name)) rows.push_back({full, source->size()});
    }
    if (rows.empty()) return {};
    const std::uint64_t told = sheet_ == nullptr ? 0 : sheet_->number("super.size").value_or(0);
    const auto groups = sheet_ == nullptr ? std::vector<LogicalGroup>{} : sheet_->groups;
    WEXLO_TRY(const SuperEdit tables, add_super(store_, told, groups, rows));
    return fill(tables, slot);
  }

  Status fill(const SuperEdit& tables, const std::string& slot) {
    for (const auto& [name, source] : logical_) {
      const auto* row = tables.find(slot_suffix(name).empty() ? name + slot : name);
      if (row == nullptr) continue;
      std::uint64_t at = 0;
      for (const ByteRange& extent : row->extents) {
        const std::uint64_t size =
            std::min(extent.end - extent.begin, source->size() - std::min(at, source->size()));
        WEXLO_CHECK(store_.put("super", {{extent.begin, size, source, at}}));
        at += size;
      }
    }
    return {};
  }

  PartitionStore& store_;
  const Sheet* sheet_;
  const Firmware* firmware_;
  const Context& context_;
  PhoneState state_;
  std::vector<std::pair<std::string, SourcePtr>> logical_;
};

std::vector<SuperEdit::GroupRow> group_rows(const std::vector<LogicalGroup>& groups,
                                            const std::vector<LogicalPartition>& partitions) {
  std::vector<SuperEdit::GroupRow> out;
  for (const LogicalGroup& one : groups) {
    if (one.name == "default") continue;
    std::uint64_t taken = 0;
    for (const LogicalPartition& other : partitions)
      if (other.group == one.name) taken += align_up(other.size, kMiB);
    out.push_back({one.name, one.size == 0 ? 0 : std::max(one.size, taken)});
  }
  return out;
}

}  // namespace

Result<SuperEdit> add_super(PartitionStore& store, std::uint64_t told,
                            const std::vector<LogicalGroup>& groups,
                            const std::vector<LogicalPartition>& partitions, std::uint64_t free) {
  std::uint64_t least = kMiB + free;  // with its tables
  for (const LogicalPartition& one : partitions)
    least += align_up(one.size, kMiB);
  const std::uint64_t size = std::max(told, least);
  SuperEdit tables = SuperEdit::make(size, group_rows(groups, partitions));
  for (const LogicalPartition& one : partitions)
    WEXLO_CHECK(tables.create(one.name, one.group, one.size));
  WEXLO_CHECK(store.add("super", size));
  const Blob head(tables.head());
  WEXLO_CHECK(store.put("super", {{0, head.size(), open_memory(head, "super"), 0}}));
  return tables;
}

PhoneState state_of_sheet(const Sheet& sheet) {
  PhoneState out;
  out.product = sheet.text("phone.product");
  if (out.product.empty()) out.product = sheet.text("phone.codename");
  out.variant = sheet.text("phone.variant");
  out.locked = sheet.text("state.lock") == "locked";
  if (const std::string& slot = sheet.text("state.current_slot"); !slot.empty()) out.slot = slot;
  out.rollback = sheet.rollback;
  constexpr std::size_t kMonth = 7;  // YYYY-MM
  out.data.bound_to = sheet.text("build.patch_level").substr(0, kMonth);
  if (const auto percent = sheet.number("state.battery_percent"))
    out.battery = static_cast<unsigned>(std::min<std::uint64_t>(*percent, 100));
  if (const auto limit = sheet.number("state.download_limit"); limit && *limit > 0)
    out.download_limit = *limit;
  if (const auto number = sheet.number("state.anti_rollback"))
    out.variables["anti"] = fmt::format("{}", *number);
  if (const std::string& one = sheet.text("build.bootloader"); !one.empty())
    out.variables["version-bootloader"] = one;
  if (const std::string& one = sheet.text("build.baseband"); !one.empty())
    out.variables["version-baseband"] = one;
  const std::string& update = sheet.text("state.update");
  for (const UpdateState one : {UpdateState::Snapshotted, UpdateState::Merging})
    if (update == update_word(one)) out.update = one;
  return out;
}

Result<PhoneState> fill_bench_phone(PartitionStore& store, const Sheet* sheet,
                                    const Firmware* firmware, const Context& context) {
  return BenchPhone(store, sheet, firmware, context).run();
}

void take_in_hand(SimulatedPhone& phone, const StockState& stock) {
  if (phone.state.root_key.empty()) phone.state.root_key = root_key_of(stock);
  if (phone.state.data.bound_to.empty()) phone.state.data.bound_to = stock.patch_level;
  phone.state.written.clear();
}

Bytes root_key_of(const StockState& stock) {
  for (const char* name : {"vbmeta", "vbmeta_a", "vbmeta_b"}) {
    const auto at = stock.images.find(name);
    if (at == stock.images.end() || at->second.subject.image() == nullptr) continue;
    return to_bytes(verified::public_key_of(*at->second.subject.image()));
  }
  return {};
}

}  // namespace wexlo
