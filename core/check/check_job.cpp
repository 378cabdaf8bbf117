#include "check/check.hpp"
#include "check/own_patch.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <utility>

#include "base/digest.hpp"
#include "check/own_footer.hpp"
#include "check/verdict.hpp"
#include "firmware/super.hpp"
#include "judge/image_origin.hpp"
#include "kit/folder/kit.hpp"
#include "verified/draft.hpp"
#include "verified/key.hpp"
#include "verified/older_signature.hpp"

namespace wexlo {
namespace {

using verified::Standing;

class CheckJob {
 public:
  CheckJob(const CheckOptions& options, const Context& context)
      : options_(options), context_(context) {}

  Result<Checked> run(const std::vector<std::string>& paths) {
    WEXLO_CHECK(open(paths));
    WEXLO_TRY(const Subjects given, read_subjects(given_, suffix_, context_));
    Subjects stock;
    if (!options_.against.empty()) {
      WEXLO_TRY(stock, read_subjects(stock_, suffix_, context_));
    }
    subjects_ = overlay(given, stock);
    settle_lock(given);
    WEXLO_CHECK(walk(stock));
    WEXLO_CHECK(look_at_lone_footers());
    find_untouched(given, stock);
    judge_images(given, stock);
    judge_set({subjects_, out_.walk, options_.slot, whole_}, report_);
    others();
    WEXLO_CHECK(judge_changed_images(given, stock));
    faults();
    partitions();
    if (out_.walk.structs.empty())
      without_chain();
    else
      judge_by_chain(out_);
    locked_change(given, stock);
    finish();
    return std::move(out_);
  }

 private:
  Status open(const std::vector<std::string>& paths) {
    if (!options_.against.empty()) {
      WEXLO_CHECK(stock_.add(images_of(options_.against), context_));
    }
    for (const std::string& path : paths) {
      if (is_kit(path)) {
        WEXLO_TRY(KitState kit, verify_kit(path, context_));
        out_.kind = CheckedKind::Kit;
        if (const auto manifest = read_manifest(path)) kit_needs_ = manifest->verdict.needs;
        std::ranges::move(kit.findings, std::back_inserter(out_.findings));
      }
      WEXLO_CHECK(given_.add(images_of(path), context_));
    }
    set_.add(stock_);
    set_.add(given_);
    // A kit holds what is to be written: the rest of the phone is not in it.
    whole_ = set_.is_whole() && (out_.kind != CheckedKind::Kit || !options_.against.empty());
    if (out_.kind != CheckedKind::Kit && (whole_ || set_.members().size() > 1))
      out_.kind = CheckedKind::Set;
    std::string other;
    suffix_ = set_.suffix(options_.slot, other);
    out_.slot = suffix_.empty() ? "" : suffix_.substr(1);
    if (!other.empty())
      note(FindingCode::SlotChosen,
           fmt::format("Both slots are here: slot {} was judged; --slot {} judges "
                       "the other.",
                       out_.slot, other));
    return {};
  }

  /// A kit for an unlocked phone is made to be flashed to one, and so is a patched image.
  void settle_lock(const Subjects& given) {
    const auto is_ours = [&](const Subject& one) { return carries_own_patch(one, context_); };
    const bool kit = out_.kind == CheckedKind::Kit && kit_needs_ == Needs::Unlocked;
    out_.taken_unlocked = !options_.locked && (kit || std::ranges::any_of(given.all, is_ours));
    unlocked_ = out_.taken_unlocked || options_.locked == false;
  }

  /// How much that weighs which stops a locked phone alone.
  Level locked_alone() const { return unlocked_ ? Level::Warning : Level::Problem; }

  void note(FindingCode code, std::string message, std::string where = "") {
    out_.findings.push_back(usual_finding(code, std::move(message), std::move(where)));
  }

  /// vbmeta, else boot's footer where that is a top-level struct: signed, or covering others.
  /// An unsigned one that speaks of boot alone is a copy of what a vbmeta has that is not here.
  bool has_top() const {
    if (set_.find_slotted("vbmeta", suffix_) != nullptr) return true;
    const Subject* boot = subjects_.find("boot");
    if (boot == nullptr || !boot->loaded) return false;
    const OwnFooter footer = own_footer(*boot);
    if (!footer.there) return false;
    return footer.is_signed || footer.covers || (set_.is_whole() && !options_.key.empty());
  }

  Status walk(const Subjects& stock) {
    if (!has_top()) return {};
    verified::WalkOptions options{
        .find = {},
        .suffix = suffix_,
        .root_key = options_.key,
        .rollback = options_.rollback,
        .look = options_.trees ? verified::Look::Trees : verified::Look::Hashes,
        .whole = whole_ && options_.whole};
    out_.root = options_.key.empty() ? RootKey::Own : RootKey::Given;
    if (options_.key.empty() && !options_.against.empty()) {
      options.root_key = top_key(stock);
      if (!options.root_key.empty()) out_.root = RootKey::Stock;
    }
    WEXLO_TRY(out_.walk, walk_set(set_, options, context_));
    return {};
  }

  static bool same(const Subject& a, const Subject& b) {
    return a.loaded && b.loaded && equal(a.loaded->bytes.view(), b.loaded->bytes.view());
  }

  void find_untouched(const Subjects& given, const Subjects& stock) {
    for (Subject& one : subjects_.all) {
      const Subject* twin = stock.find(one.partition);
      if (twin != nullptr) {
        one.untouched = same(one, *twin);
        continue;
      }
      if (one.image() == nullptr || given.find(one.partition) == nullptr) continue;
      const auto standing = out_.walk.standings.find(one.partition);
      const bool wrong =
          standing != out_.walk.standings.end() && (standing->second == Standing::DigestMismatch ||
                                                    standing->second == Standing::BadSignature);
      if (wrong) continue;
      const auto judged = origin_of(*one.loaded, one.reading, {});
      if (!judged) continue;
      const Origin& origin = judged->origin;
      origins_[one.partition] = origin.word;
      one.untouched = origin.word == OriginWord::Pristine ||
                      (standing != out_.walk.standings.end() && standing->second == Standing::Ok &&
                       origin.word != OriginWord::Journaled && origin.word != OriginWord::Altered);
    }
  }

  void judge_images(const Subjects& given, const Subjects& stock) {
    for (const Subject& one : subjects_.all) {
      if (given.find(one.partition) == nullptr) continue;
      const Subject* twin = stock.find(one.partition);
      judge_form(one, twin, report_);
      judge_ramdisks(one, twin, report_);
      if (twin != nullptr && !one.untouched) {
        judge_against_stock(one, *twin, report_);
        rollback(one, *twin);
      }
      footer_of(one, twin);
    }
  }

  /// The own footer of an image. Its digest counts where no other struct speaks for the image.
  void footer_of(const Subject& one, const Subject* twin) {
    if (one.image() == nullptr || one.image()->kind() == "vbmeta") return;
    const OwnFooter footer = own_footer(one);
    const bool judged = out_.walk.standings.contains(one.partition);
    if (footer.there && !footer.reads)
      report_.add(FindingCode::VerifiedStruct, one.partition,
                  fmt::format("The image's own footer does not lead to a valid struct: {}.",
                              footer.trouble),
                  one.untouched);
    else if (!footer.there && twin != nullptr && own_footer(*twin).there && !judged)
      report_.add(FindingCode::VerifiedStruct, one.partition,
                  "The stock image has a verified-boot footer, this one has none.", false,
                  Level::Warning);
    const View bytes = one.loaded->bytes.view();
    const auto end = static_cast<std::size_t>(one.image()->sections_end());
    const auto older = verified::older_signature(bytes.subspan(end), bytes.first(end));
    if (older && !older->holds)
      note(FindingCode::OlderSignature,
           "The older boot signature is not valid for the image: loaders of "
           "that age stop there when locked.",
           one.partition);
    if (footer.digest == false)
      report_.add(FindingCode::ImageDigest, one.partition,
                  "The digest in the image's own footer does not match it.", false,
                  judged ? Level::Warning : locked_alone());
  }

  /// The stored index is not known: what the stock image has is the best guess.
  void rollback(const Subject& one, const Subject& twin) {
    const auto index = [](const Subject& s) -> std::optional<std::uint64_t> {
      if (s.image() == nullptr) return std::nullopt;
      if (s.image()->kind() == "vbmeta") return s.image()->number("rollback_index");
      const auto footer = footer_info(s.loaded->bytes.view());
      if (!footer || !*footer) return std::nullopt;
      return (*footer)->vbmeta.rollback_index;
    };
    const auto now = index(one), before = index(twin);
    if (now && before && *now < *before)
      report_.add(FindingCode::RollbackIndex, one.partition,
                  fmt::format("Rollback index {} is lower than the stock image's {}: a phone that "
                              "has started it refuses this one when locked.",
                              *now, *before),
                  false, Level::Warning);
  }

  void others() {
    if (const Subject* misc = subjects_.find("misc"); misc != nullptr && misc->source)
      judge_misc(*misc, options_.slot, report_);
    const Subject* super = subjects_.find("super");
    if (super != nullptr && super->source)
      for (const std::string& trouble : super_troubles(*super->source))
        report_.add(FindingCode::SuperTables, "super", trouble);
    for (const auto& one : set_.firmwares()) {
      for (const Finding& note : one->notes)
        if (note.id.code == FindingCode::SuperUnreadable)
          report_.add(FindingCode::SuperTables, "super", note.message);
      for (const Layer& layer : one->layers)
        if (layer.kind == "super") super_copies(*one);
    }
  }
  static bool is_of_super(FindingCode code) {
    return code == FindingCode::SuperUnreadable || code == FindingCode::SuperGeometryBackup ||
           code == FindingCode::SuperMetadataBackup;
  }
  void super_copies(const Firmware& firmware) {
    for (const Finding& note : firmware.notes)
      if (is_of_super(note.id.code)) report_.add(FindingCode::SuperTables, "super", note.message);
  }

  Status judge_changed_images(const Subjects& given, const Subjects& stock) {
    for (const Subject& one : subjects_.all) {
      const Subject* twin = stock.find(one.partition);
      if (twin == nullptr || given.find(one.partition) == nullptr) continue;
      if (one.image() == nullptr || twin->image() == nullptr) continue;
      if (one.untouched && given.all.size() > 1) continue;
      WEXLO_TRY(AgainstStock judged, judge_changed(one, *twin, context_));
      out_.against.push_back(std::move(judged));
    }
    return {};
  }

  void faults() {
    for (const verified::Fault& one : out_.walk.faults) {
      const Level level = one.stops_unlocked ? Level::Problem
                          : one.stops_locked ? locked_alone()
                                             : Level::Warning;
      report_.add(one.code, one.partition, one.message, false, level);
    }
    if (out_.walk.verification_disabled)
      note(FindingCode::VerificationOff,
           "vbmeta's flags switch verification off: no partition is looked at.", "vbmeta");
    else if (out_.walk.hashtrees_disabled)
      note(FindingCode::VerificationOff,
           "vbmeta's flags switch hash trees off: system partitions are not looked at.", "vbmeta");
  }

  void partitions() {
    std::vector<std::string> absent;
    const auto add = [&](const std::string& name, Standing standing, std::string detail) {
      const auto* member = set_.find_slotted(name, suffix_);
      out_.partitions.push_back({name, std::string(verified::standing_name(standing)),
                                 member == nullptr ? 0 : member->size, std::move(detail)});
      if (member == nullptr) absent.push_back(name);
    };
    for (const auto& [name, standing] : out_.walk.standings)
      add(name, standing, standing_detail(out_.walk, name));
    for (const Subject& one : subjects_.all) {
      if (out_.walk.standings.contains(one.partition)) continue;
      if (partition_class(one.partition) == PartitionClass::Other) continue;
      if (out_.walk.structs.empty()) {
        const OwnFooter footer = own_footer(one);
        const bool wrong = footer.digest == false || !footer.reads;
        add(one.partition, wrong ? Standing::DigestMismatch : Standing::Unsigned,
            footer.digest == true ? "its own digest matches; no signed vbmeta covers it"
            : wrong               ? "its own footer does not match it"
                                  : "no vbmeta covers it");
        continue;
      }
      add(one.partition, out_.walk.verification_disabled ? Standing::Disabled : Standing::Unsigned,
          "no struct covers it");
    }
    for (const auto& [name, footer] : lone_)
      add(name, footer.trouble.empty() ? Standing::Unsigned : Standing::DigestMismatch,
          footer.trouble.empty() ? footer.about : footer.trouble);
    std::ranges::sort(out_.partitions, {}, &CheckedPartition::name);
    for (const std::string& name : out_.walk.left_to_phone())
      out_.findings.push_back(
          usual_finding(FindingId(FindingCode::PhonesOwn, name),
                        fmt::format("{} is chained, and not here: it has to be the phone's own, "
                                    "of the same build.",
                                    name),
                        name));
    if (!absent.empty() && !out_.walk.structs.empty())
      note(FindingCode::NotAvailable,
           fmt::format("Not looked at, since they are not here: {}.", fmt::join(absent, ", ")));
  }

  /// Partitions that are not read whole (system images), with a footer of their own and no vbmeta
  /// that covers them: their own digest or hash tree is checked, and the signature.
  Status look_at_lone_footers() {
    if (!out_.walk.structs.empty()) return {};
    for (const PhoneSet::Member& member : set_.members()) {
      const auto other = slot_suffix(member.name);
      if (!member.cheap || member.size == 0 || (!other.empty() && other != suffix_)) continue;
      const std::string_view bare = without_slot(member.name);
      if (partition_class(bare) != PartitionClass::Other) continue;
      WEXLO_TRY(const Subject one, read_subject(set_, member, suffix_, context_));
      if (one.source != nullptr) WEXLO_CHECK(look_at_lone_footer(one));
    }
    return {};
  }

  Status look_at_lone_footer(const Subject& one) {
    WEXLO_TRY(LoneFooter footer, lone_footer(one, options_.trees, context_));
    if (!footer.there) return {};
    if (!footer.trouble.empty())
      report_.add(footer.code, one.partition, footer.trouble, false, locked_alone());
    lone_.emplace(one.partition, std::move(footer));
    return {};
  }

  /// Nothing here is at the top of a chain.
  void without_chain() {
    WithoutChain seen{.footers = !lone_.empty()};
    for (const auto& [name, footer] : lone_)
      seen.wrong = seen.wrong || !footer.trouble.empty();
    for (const Subject& one : subjects_.all) {
      const OwnFooter footer = own_footer(one);
      seen.footers = seen.footers || footer.there;
      seen.wrong = seen.wrong || footer.digest == false || !footer.reads;
      const auto origin = origins_.find(one.partition);
      const bool odd = origin != origins_.end() && (origin->second == OriginWord::Altered ||
                                                    origin->second == OriginWord::Journaled);
      seen.stock = seen.stock && (one.untouched || (!footer.there && !odd));
    }
    judge_without_chain(seen, out_);
    if (seen.footers)
      note(FindingCode::NoTopLevel,
           "No vbmeta is here: --against FIRMWARE judges the whole chain.");
  }

  void locked_change(const Subjects& given, const Subjects& stock) {
    if (out_.locked.starts() || stock.all.empty()) return;
    std::vector<std::string> changed;
    for (const Subject& one : given.all) {
      const Subject* twin = stock.find(one.partition);
      if (twin != nullptr && !same(one, *twin)) changed.push_back(one.partition);
    }
    if (changed.empty()) return;
    report_.add(FindingCode::LockedChange, fmt::format("{}", fmt::join(changed, ", ")),
                "Changed, and not signed with the key that the phone trusts: never lock the "
                "bootloader while this is on it.",
                false, locked_alone());
  }

  void finish() {
    auto found = report_.take();
    judge_coming_up(found, report_.unknown(), out_);
    std::ranges::move(found, std::back_inserter(out_.findings));
    if (unlocked_) judge_for_unlocked(out_);
  }

  const CheckOptions& options_;
  const Context& context_;
  PhoneSet given_, stock_, set_;
  std::string suffix_;
  Needs kit_needs_ = Needs::Unknown;
  bool whole_ = false;
  bool unlocked_ = false;  ///< the phone that is judged for is
  Subjects subjects_;
  std::map<std::string, OriginWord> origins_;
  std::map<std::string, LoneFooter> lone_;  ///< by partition
  Report report_;
  Checked out_;
};

}  // namespace

Result<Checked> check_paths(const std::vector<std::string>& paths, const CheckOptions& options,
                            const Context& context) {
  return CheckJob(options, context).run(paths);
}

}  // namespace wexlo
