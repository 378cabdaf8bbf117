#include "phone/simulated/start_look.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/contains.hpp"
#include "base/error_kinds.hpp"
#include "check/own_patch.hpp"
#include "image/partitions.hpp"
#include "judge/phone_set.hpp"
#include "recipe/journal.hpp"

namespace wexlo {
namespace {

bool same_bytes(const Source& a, const Source& b) {
  constexpr std::uint64_t kSameAt = 1u << 20;
  if (a.size() != b.size()) return false;
  Bytes one(kSameAt), other(kSameAt);
  for (std::uint64_t at = 0; at < a.size(); at += kSameAt) {
    const auto size = static_cast<std::size_t>(std::min(kSameAt, a.size() - at));
    const MutableView left = MutableView(one).first(size), right = MutableView(other).first(size);
    if (!a.read_at(at, left) || !b.read_at(at, right) || !equal(left, right)) return false;
  }
  return true;
}

bool has_journal(const Subject& one) {
  return std::ranges::any_of(one.reading.ramdisks, [](const ReadRamdisk& ramdisk) {
    const auto journal =
        ramdisk.ramdisk ? read_journal(*ramdisk.ramdisk) : Result<std::optional<Journal>>{};
    return journal && *journal;
  });
}

class Looker {
 public:
  Looker(SimulatedPhone& phone, const std::string& slot, const StockStatePtr& stock,
         const SourcePtr& once)
      : phone_(phone), suffix_(slot.empty() ? "" : "_" + slot), stock_(stock), once_(once) {}

  Result<StartLook> run() {
    WEXLO_CHECK(read());
    WEXLO_CHECK(walk());
    out_.joined = join_ramdisks(out_.set);
    judge();
    find_addon();
    return std::move(out_);
  }

 private:
  Status read() {
    for (const std::string& name : phone_.partitions()) {
      const std::string suffix(slot_suffix(name)), bare(without_slot(name));
      if (!is_of_a_start(bare) || (!suffix.empty() && suffix != suffix_)) continue;
      WEXLO_TRY(SourcePtr source, phone_.content(name));
      if (once_ != nullptr && bare == "boot") source = once_;
      if (is_blank(*source)) continue;
      WEXLO_CHECK(take(name, source));
    }
    return {};
  }

  Status take(const std::string& name, const SourcePtr& source) {
    const StockState::Known* known = nullptr;
    if (stock_)
      if (const auto at = stock_->images.find(name); at != stock_->images.end())
        known = &at->second;
    const bool same =
        known != nullptr && (known->source == source || same_bytes(*known->source, *source));
    if (same) {
      Subject subject = known->subject;
      subject.untouched = true;
      out_.set.all.push_back(std::move(subject));
      return {};
    }
    PhoneSet set;
    set.add(name, source);
    WEXLO_TRY(Subject subject, read_subject(set, set.members().front(), suffix_, phone_.context()));
    // Without its stock twin what was not written is as the phone came.
    subject.untouched = !stock_ && !phone_.state.written.contains(name);
    if (!subject.untouched) out_.changed_names.push_back(name);
    out_.set.all.push_back(std::move(subject));
    return {};
  }

  /// Hash trees of what was written are looked at; those of the rest are as they were.
  Status walk() {
    verified::WalkOptions options{.find = [&](const std::string& name) -> Result<SourcePtr> {
                                    if (once_ != nullptr && without_slot(name) == "boot")
                                      return once_;
                                    if (!phone_.size_of(name)) return nullptr;
                                    return phone_.content(name);
                                  },
                                  .suffix = suffix_,
                                  .root_key = root_key(),
                                  .rollback = phone_.state.rollback,
                                  .look = verified::Look::Hashes,
                                  .whole = false};
    for (const std::string& name : phone_.state.written)
      options.trees.insert(std::string(without_slot(name)));
    const bool top = contains(out_.set.all, std::string("vbmeta"), &Subject::partition);
    if (!top && !has_footer_on_top()) return {};
    WEXLO_TRY(out_.walk, verified::walk_chain(options, phone_.context()));
    return {};
  }

  [[nodiscard]] Bytes root_key() const {
    return phone_.state.owner_key.empty() ? phone_.state.root_key : phone_.state.owner_key;
  }

  /// Phones without a vbmeta partition may have its struct in boot's footer, signed.
  [[nodiscard]] bool has_footer_on_top() const {
    const Subject* const boot = out_.set.find("boot");
    if (boot == nullptr || boot->source == nullptr || phone_.state.root_key.empty()) return false;
    const auto place = verified::find_struct(*boot->source, "boot");
    return place && *place;
  }

  void judge() {
    Report report;
    for (const Subject& one : out_.set.all) {
      const Subject* stock = stock_of(one);
      judge_form(one, stock, report);
      judge_ramdisks(one, stock, report);
    }
    const bool whole = !stock_ || stock_->own.empty();
    judge_set({out_.set, out_.walk, suffix_.empty() ? "" : suffix_.substr(1), whole}, report);
    out_.unknown = report.unknown();
    out_.findings = report.take();
  }

  [[nodiscard]] const Subject* stock_of(const Subject& one) const {
    if (!stock_) return nullptr;
    for (const std::string& name : {one.partition + suffix_, one.partition})
      if (const auto at = stock_->images.find(name); at != stock_->images.end())
        return &at->second.subject;
    return nullptr;
  }

  /// What recipes put in is told by the journal that they leave.
  void find_addon() {
    const bool skipped = contains(out_.findings, FindingCode::RamdiskUnused,
                                  [](const Finding& one) { return one.id.code; });
    for (const Ramdisk* one : out_.joined.parts) {
      const auto journal = read_journal(*one);
      if (journal && *journal) out_.addon = AddonSeen::Seen;
    }
    for (const Subject& one : out_.set.all) {
      if (one.untouched || !has_journal(one)) continue;
      const bool runs = out_.addon == AddonSeen::Seen && one.partition != "recovery";
      if (runs && !skipped) continue;
      if (out_.addon != AddonSeen::Seen || skipped) {
        out_.addon = AddonSeen::NotSeen;
        out_.asleep = one.partition;
      }
    }
    out_.recovery_alone = std::ranges::all_of(out_.changed_names, [](const std::string& name) {
      return without_slot(name) == "recovery" || is_vbmeta(without_slot(name));
    });
  }

  SimulatedPhone& phone_;
  std::string suffix_;
  const StockStatePtr& stock_;
  const SourcePtr& once_;
  StartLook out_;
};

}  // namespace

bool StartLook::joint_breaks() const {
  std::optional<Compression> before;
  for (const Ramdisk* one : joined.parts)
    for (const RamdiskSegment& segment : one->segments) {
      if (before == Compression::Lz4Legacy && segment.compression != before) return true;
      before = segment.compression;
    }
  return false;
}

Result<StartLook> look_at(SimulatedPhone& phone, const std::string& slot,
                          const StockStatePtr& stock, const SourcePtr& once) {
  return Looker(phone, slot, stock, once).run();
}

}  // namespace wexlo
