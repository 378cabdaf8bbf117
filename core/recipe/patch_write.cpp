#include "recipe/patch_write.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/digest.hpp"
#include "base/error_kinds.hpp"
#include "image/boot.hpp"
#include "image/load_areas.hpp"
#include "image/prefix.hpp"
#include "parts/rebuild.hpp"
#include "recipe/patch.hpp"
#include "recipe/way_back.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {
namespace {

using newc::Entry;

/// What an image without a verified-boot footer may grow by for its way back: how large its
/// partition is nobody has said.
constexpr std::uint64_t kMostGrowth = 4u << 20;

class PatchWriter {
 public:
  PatchWriter(Work& work, Journal journal, const std::string& stock_sha256)
      : work_(work),
        journal_(std::move(journal)),
        stock_sha256_(stock_sha256),
        digests_(work.context) {}

  Status run() {
    WEXLO_CHECK(write());
    return digests_.wait();
  }

 private:
  Status write() {
    work_.out.changed = true;
    if (work_.ramdisks.empty()) {
      WEXLO_TRY(const LoadedImage output, finish(work_.image));
      WEXLO_CHECK(account_for(output));
      WEXLO_TRY(work_.out.way_back, without_ramdisk(output));
      return {};
    }
    work_.opened = work_.home();
    if (journal_.stock_sha256.empty()) journal_.stock_sha256 = stock_sha256_;
    const auto stock = original();
    if (!stock) journal_.way_back = stock.error().message;
    const auto ramdisks = work_.ramdisks;
    const auto journal = journal_;
    const auto notes = work_.out.notes;
    // Streams packed again, then carried whole, then without a way back.
    for (const bool whole : {false, true}) {
      if (!stock) break;
      auto done = with_way_back(*stock, whole);
      if (done) return done;
      const ErrorCode code = done.error().code;
      if (code != ErrorCode::DoesNotFit && code != ErrorCode::NoWayBack) return done;
      WEXLO_CHECK(digests_.wait());  // of the bytes that others take the place of
      work_.ramdisks = ramdisks;
      work_.opened = work_.home();
      work_.out.notes = notes;
      work_.out.ranges.clear();
      work_.out.entries.clear();
      journal_ = journal;
      journal_.way_back = code == ErrorCode::DoesNotFit ? "it does not fit into the partition"
                                                        : done.error().message;
      // What does not fit packed fits whole even less.
      if (code == ErrorCode::DoesNotFit || !unproven_) break;
    }
    if (find_entry(work_.ramdisk(), kWayBackPlace))
      work_.erase(std::string(kWayBackPlace), "the way back no longer fits");
    WEXLO_CHECK(write_journal());
    Image image = work_.image;
    WEXLO_CHECK(pack(image));
    WEXLO_TRY(const LoadedImage output, finish(std::move(image)));
    WEXLO_CHECK(account_for(output));
    work_.out.way_back = {false, 0, journal_.way_back};
    return {};
  }

  Status write_journal() {
    const std::string text = format_journal(journal_);
    return put_own(std::string(kJournalPlace), as_view(text), "journal");
  }

  Status put_own(const std::string& place, View content, const std::string& cause) {
    if (const auto at = find_entry(work_.ramdisk(), place)) {
      if (!equal(content_of(work_.ramdisk(), *at).view(), content))
        work_.rewrite(*at, place, content, cause);
      return {};
    }
    return work_.add(Entry::make(place, newc::Regular | 0600, Blob(to_bytes(content))), cause);
  }

  /// The stock image that the journal speaks of: of an image patched before, the one before that.
  Result<LoadedImage> original() const {
    if (!work_.patched_before) return work_.stock;
    WEXLO_TRY(const Blob bytes, follow_way_back(work_.stock, journal_, work_.context));
    return load_image(bytes, "the stock image");
  }

  /// What an image without a ramdisk has to go back by; of vbmeta it is tried on the very bytes
  /// that will be written.
  Result<WayBack> without_ramdisk(const LoadedImage& output) const {
    if (work_.image.kind() != "vbmeta")
      return WayBack{false, 0, "the image has no ramdisk to carry it in"};
    const auto back = flags_as_signed(*output.image);
    if (!back) return WayBack{false, 0, back.error().message};
    if (!equal(back->view(), work_.stock.bytes.view()))
      return WayBack{false, 0,
                     "this vbmeta was not as its signer left it, and only that can be told from "
                     "its signature"};
    return WayBack{true, 0, "its signature tells which flags it was signed with"};
  }

  /// Puts the way back in, packs, accounts, and goes it from the very bytes that will be written.
  Status with_way_back(const LoadedImage& stock, bool whole) {
    unproven_ = false;
    // Its place is taken first: the streams that it is in are packed anew.
    WEXLO_CHECK(put_own(std::string(kWayBackPlace), as_view("."), "way back"));
    WEXLO_CHECK(write_journal());
    std::vector<OpenPart> parts;
    for (const OpenRamdisk& one : work_.ramdisks)
      parts.push_back({&one.part, &one.ramdisk});
    TaskGroup proofs(work_.context);
    // What was read of the stock image is still held, unless it is not this call's input.
    const bool is_held = !work_.patched_before && !work_.intent.fragments &&
                         std::ranges::none_of(work_.ramdisks, &OpenRamdisk::replaced);
    Unfolded before;
    if (is_held) {
      before = unfold(*stock.image, parts, Side::Stock, work_.context);
    } else {
      WEXLO_TRY(before, unfold(stock, work_.context));
    }
    const bool renews = verified::is_older_signature_renewed(*work_.stock.image, work_.stock.bytes);
    const Unfolded after = unfold(work_.image, parts, Side::Patched, work_.context, renews);
    WEXLO_TRY(const MadeWayBack made,
              make_way_back(stock.bytes, before, after, whole, proofs, work_.context));
    for (OpenRamdisk& one : work_.ramdisks)
      for (RamdiskSegment& segment : one.ramdisk.segments)
        if (const auto found = made.settings.find(segment.encoded.view().data());
            found != made.settings.end()) {
          segment.framing = found->second.framing;
          segment.setting_known = true;
        }
    work_.out.way_back = {true, made.carried.size(), "the image carries it"};
    journal_.way_back.clear();
    WEXLO_CHECK(put_own(std::string(kWayBackPlace), made.carried, "way back to the stock image"));
    WEXLO_CHECK(write_journal());
    Image image = work_.image;
    WEXLO_CHECK(pack(image));
    const std::uint64_t size = image.size(), was = work_.stock.bytes.size();
    if (size > was + kMostGrowth && made.carried.size() > size - was - kMostGrowth)
      return no_way(
          "it would make the image much larger, and nothing says how large its "
          "partition is");
    WEXLO_TRY(const LoadedImage output, finish(std::move(image)));
    // What only the way back makes overlap is no reason for it.
    if (!work_.out.warnings.empty() && made.carried.size() > 1 &&
        !boot::new_load_overlaps(*output.image, *work_.stock.image).empty())
      return fail({.code = ErrorCode::DoesNotFit,
                   .message = "with it the parts would overlap where the loader puts them"});
    WEXLO_CHECK(proofs.wait());
    unproven_ = std::ranges::any_of(made.repackings, [](const auto& one) { return !one->same; });
    if (unproven_) return no_way("a stock stream does not come out of the usual encoders again");
    // Both look at what was written, and neither waits for the other.
    TaskGroup accounting(work_.context);
    accounting.submit(0, [&]() -> Status { return account_for(output); });
    auto back = check_way_back(output, journal_, stock.bytes, made.repackings, work_.context);
    WEXLO_CHECK(accounting.wait());
    if (back || is_of_this_run(back.error().code)) return back;
    return no_way(back.error().message);
  }

  static Status no_way(std::string why) {
    return fail({.code = ErrorCode::NoWayBack, .message = std::move(why)});
  }

  Status pack(Image& image) {
    const auto id = boot::id_recipe(*work_.stock.image);
    std::vector<parts::EditedRamdisk> edited;
    for (const OpenRamdisk& one : work_.ramdisks)
      if (std::ranges::any_of(one.ramdisk.segments, &RamdiskSegment::touched))
        edited.push_back({one.part.index, &one.ramdisk});
    return take(parts::rebuild(image, work_.stock.bytes, id, edited, work_.context,
                               work_.intent.struct_flags));
  }

  Status take(Result<std::vector<Remark>> notes) {
    if (!notes) return fail(std::move(notes).error());
    for (Remark& note : *notes)
      work_.note(std::move(note));
    return {};
  }

  /// Everything that the header and the tail say of the content; then it is read as any image is.
  Result<LoadedImage> finish(Image image) {
    // Of a vbmeta nothing but what a maker put around it follows its flags.
    if (image.kind() == "vbmeta")
      WEXLO_CHECK(take(verified::rebuild_tail(image, work_.stock.bytes)));
    else if (work_.ramdisks.empty())
      WEXLO_CHECK(pack(image));
    Patched& out = work_.out;
    out.bytes = Blob(image.write());
    give_back_zeros(out.bytes);
    digests_.submit(0, [&out]() -> Status {
      out.sha256 = sha256_hex(out.bytes);
      return {};
    });
    WEXLO_TRY(LoadedImage loaded, load_image(out.bytes, "the output"));
    if (loaded.image) tell_of(*loaded.image);
    return loaded;
  }

  void tell_of(const Image& image) {
    work_.out.warnings.clear();
    const auto warn = [&](FindingCode code, std::string message) {
      work_.out.warnings.push_back(usual_finding(code, std::move(message)));
    };
    for (const std::string& pair : boot::new_load_overlaps(image, *work_.stock.image))
      warn(FindingCode::LoadOverlap,
           fmt::format("Where the header puts them, {} overlap, which they do not in the stock "
                       "image: the loader may write one over the other.",
                       pair));
    if (work_.stock.image->section("ramdisk") != nullptr &&
        boot::ramdisk_parts(*work_.stock.image).empty() && !boot::ramdisk_parts(image).empty())
      warn(FindingCode::RamdiskMade,
           fmt::format("The image had no ramdisk and has one now: it runs only where the loader "
                       "loads it{}.",
                       image.number("ramdisk_addr") == 0
                           ? ", and the header gives it no address (ramdisk_addr is 0)"
                           : ""));
    if (prefix::kind_of(image.prefix().view()) == "keyblock")
      warn(
          FindingCode::SignedBlock,
          "The image stands in a signed block, whose signature is not valid for the change: it has "
          "to be signed anew before a locked phone starts it.");
  }

  Status account_for(const LoadedImage& output) {
    for (const OpenRamdisk& one : work_.ramdisks) {
      work_.intent.ramdisks[one.part.index] = one.meant;
      if (!one.replaced) work_.intent.opened[one.part.index] = &one.ramdisk;
    }
    return account(work_.stock, output, work_.out, work_.intent, work_.context);
  }

  Work& work_;
  Journal journal_;
  bool unproven_ = false;
  const std::string& stock_sha256_;
  TaskGroup digests_;  ///< last: it waits for its tasks before what they use is gone
};

}  // namespace

Status write_patched(Work& work, Journal journal, const std::string& stock_sha256) {
  return PatchWriter(work, std::move(journal), stock_sha256).run();
}

}  // namespace wexlo
