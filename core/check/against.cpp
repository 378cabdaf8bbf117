#include "check/against.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <array>
#include <set>

#include "base/contains.hpp"
#include "base/digest.hpp"
#include "check/own_patch.hpp"
#include "image/boot.hpp"
#include "image/tail.hpp"
#include "ramdisk/textfiles.hpp"

namespace wexlo {
namespace {

using newc::Entry;

/// The digest of every file in an image's ramdisks, by place.
std::map<std::string, std::string> files_of(const ImageReading& reading) {
  std::map<std::string, std::string> out;
  for (const ReadRamdisk& one : reading.ramdisks) {
    if (!one.ramdisk) continue;
    for (const RamdiskSegment& segment : one.ramdisk->segments) {
      const auto carriers = content_carriers(segment.archive);
      const auto& entries = segment.archive.entries;
      for (std::size_t i = 0; i < entries.size(); ++i) {
        if (entries[i].is_trailer()) continue;
        const std::string head = one.part.in_table ? one.part.title() + ": /" : "/";
        const View data = entries[carriers[i]].data().view();
        out[head + newc::place_of(entries[i].name())] = data.empty() ? "" : sha256_hex(data);
      }
    }
  }
  return out;
}

/// Differences that follow from others, or that no one made on purpose.
bool follows(const Difference& d) {
  if (d.area == DifferenceArea::Header)
    return d.where.ends_with("_size") || d.where == "id" || d.where == "recovery_dtbo_offset" ||
           d.where == "flags";  // told as the struct's own
  if (d.area == DifferenceArea::Part)
    return d.kind == DifferenceKind::Content &&
           (d.where.contains("ramdisk") || d.where == "authentication" || d.where == "auxiliary");
  if (d.area == DifferenceArea::Vbmeta) return d.where == "footer" || d.where.starts_with("hash ");
  return d.area == DifferenceArea::Wrapping && d.where == "file size";
}

class Stranger {
 public:
  Stranger(const Subject& one, const Subject& stock, const Context& context)
      : one_(one), stock_(stock), context_(context) {
    out_.partition = one.partition;
  }

  AgainstStock run(const ImageComparison& comparison) {
    const bool same_bytes = comparison.differences.empty() && comparison.ranges.empty();
    for (const Difference& d : comparison.differences)
      if (!follows(d)) out_.changes.push_back(d);
    files_ = files_of(one_.reading);
    stock_files_ = files_of(stock_.reading);
    build();
    protections();
    content(comparison);
    verdict(same_bytes);
    return std::move(out_);
  }

 private:
  void speak(std::string clause) { out_.evidence.push_back(std::move(clause)); }

  /// @return whether both have it; `other_` is set where they differ
  bool facts(std::string_view what, const std::string& now, const std::string& before) {
    if (now.empty() || before.empty()) return false;
    if (now != before) {
      other_ = true;
      speak(fmt::format("{} is {}, the firmware's {}", what, now, before));
      return true;
    }
    speak(fmt::format("{} is the firmware's: {}", what, now));
    return true;
  }

  void build() {
    bool strong = facts("the build fingerprint in the footer", one_.build_property("fingerprint"),
                        stock_.build_property("fingerprint"));
    const auto level = [](const Subject& s) { return boot::os_version(*s.image()).patch_level; };
    facts("the security patch level", level(one_), level(stock_));
    if (!one_.properties.empty() && one_.image()->kind() == "vbmeta") {
      strong = one_.properties == stock_.properties;
      other_ = other_ || !strong;
      speak(strong ? "its properties are the firmware's" : "its properties are others");
    }
    if (one_.reading.kernel && stock_.reading.kernel) {
      const bool both =
          facts("the kernel", one_.reading.kernel->banner, stock_.reading.kernel->banner);
      strong = strong || both;
    }
    const Section *kernel = one_.image()->section("kernel"),
                  *old = stock_.image()->section("kernel");
    if (kernel != nullptr && old != nullptr && !kernel->bytes.empty() &&
        equal(kernel->bytes.view(), old->bytes.view())) {
      strong = true;
      speak("the kernel is the firmware's, byte for byte");
    }
    std::size_t same = 0, all = 0;
    const std::set<std::string> now = contents(files_);
    for (const auto& [place, sha256] : stock_files_) {
      if (sha256.empty()) continue;
      ++all;
      same += now.contains(sha256) ? 1 : 0;
    }
    if (all != 0) {
      speak(fmt::format("{} of {} stock files of the ramdisk are in it unchanged", same, all));
      // Patches touch a few files; another build has most of its programs anew.
      if (same * 2 < all) other_ = true;
      strong = strong || same * 10 >= all * 7;
    }
    out_.build = other_ ? SameBuild::Other : strong ? SameBuild::Same : SameBuild::Unknown;
  }

  static std::set<std::string> contents(const std::map<std::string, std::string>& files) {
    std::set<std::string> out;
    for (const auto& [place, sha256] : files)
      if (!sha256.empty()) out.insert(sha256);
    return out;
  }

  void lower(std::string sentence) {
    if (std::ranges::find(out_.lowered, sentence) == out_.lowered.end())
      out_.lowered.push_back(std::move(sentence));
  }

  void protections() {
    mounts();
    for (const Difference& d : out_.changes) {
      if (d.area == DifferenceArea::Selinux && d.kind == DifferenceKind::Added)
        lower(fmt::format("SELinux is made permissive: {}.", d.after));
      if (d.area == DifferenceArea::Selinux && d.kind != DifferenceKind::Added)
        lower(fmt::format("SELinux policy is another: {} ({}).", d.where, difference_name(d.kind)));
      if (d.area == DifferenceArea::Vbmeta && d.where == "flags" && d.after != "0")
        lower(fmt::format("Verification flags of vbmeta are {} instead of {}.", d.after, d.before));
      if (d.area == DifferenceArea::Vbmeta && d.where == "algorithm" && d.after == "none")
        lower("The verified-boot struct is not signed any more.");
      for (const std::string& line : d.lines)
        property(d.where, line);
    }
  }

  /// Properties that open a phone, where a line was added.
  void property(const std::string& where, std::string_view line) {
    for (const char* word : {"ro.debuggable=1", "ro.secure=0", "ro.adb.secure=0",
                             "persist.sys.usb.config=adb", "ro.oem_unlock_supported=1"})
      if (line.starts_with('+') && line.substr(1).find(word) != line.npos)
        lower(fmt::format("{} sets {}.", where, word));
  }

  static std::map<std::string, std::string> mounts_of(const Subject& subject) {
    std::map<std::string, std::string> out;
    for (const ReadRamdisk& one : subject.reading.ramdisks) {
      if (!one.ramdisk) continue;
      for (const RamdiskSegment& segment : one.ramdisk->segments)
        for (const Entry& entry : segment.archive.entries) {
          if (!is_fstab_name(newc::place_of(entry.name()))) continue;
          for (const FstabRow& row : fstab_rows(as_text(entry.data().view())))
            out[newc::place_of(entry.name()) + " " + row.mount_point] +=
                fmt::format("{}{} ", row.verified ? "verified" : "", row.encrypted ? "+crypt" : "");
        }
    }
    return out;
  }

  void mounts() {
    const auto now = mounts_of(one_), before = mounts_of(stock_);
    for (const auto& [place, text] : before) {
      const auto at = now.find(place);
      if (at == now.end()) continue;
      const auto name = place.substr(place.find(' ') + 1);
      if (text.contains("verified") && !at->second.contains("verified"))
        lower(fmt::format("{} is mounted without verification.", name));
      if (text.contains("+crypt") && !at->second.contains("+crypt"))
        lower(fmt::format("{} is not encrypted when it is formatted anew.", name));
    }
  }

  void unexplained(std::string what) { out_.unexplained.push_back(std::move(what)); }

  void content(const ImageComparison& comparison) {
    const std::set<std::string> known = contents(stock_files_);
    for (const auto& [place, sha256] : files_) {
      if (sha256.empty() || known.contains(sha256)) continue;
      const auto before = stock_files_.find(place);
      // What a text file's lines show needs no more words.
      const bool told = std::ranges::any_of(
          out_.changes, [&](const Difference& d) { return d.where == place && !d.lines.empty(); });
      if (!told && !place.contains("/wexlo/"))
        unexplained(fmt::format("{} {}, SHA-256 {}", place,
                                before == stock_files_.end() ? "is new" : "has other content",
                                short_digest(sha256)));
    }
    for (const Difference& d : out_.changes) {
      if (d.area == DifferenceArea::Part &&
          (d.kind == DifferenceKind::Content || d.kind == DifferenceKind::Added))
        unexplained(fmt::format("part {} has other content ({})", d.where, d.after));
      if (d.area == DifferenceArea::Wrapping && d.where == "behind the image" &&
          has_other_tail(*one_.image()))
        unexplained(fmt::format("behind the image: {}", d.after));
    }
    std::uint64_t bytes = 0;
    for (const DifferentRange& range : comparison.ranges)
      if (range.region == "kernel") bytes += range.size;
    if (bytes != 0) speak(fmt::format("about {} bytes of the kernel differ", bytes));
  }

  /// Behind the image stands something of no known kind.
  static bool has_other_tail(const Image& image) {
    return contains(tail_items(image.tail().view()), TailKind::Other, &TailItem::kind);
  }

  /// The flags of a vbmeta, and nothing else.
  bool only_flags() const {
    return one_.image()->kind() == "vbmeta" && out_.changes.size() == 1 &&
           out_.changes.front().area == DifferenceArea::Vbmeta &&
           out_.changes.front().where == "flags";
  }

  void verdict(bool same_bytes) {
    const std::string what = fmt::format(
        "{} change{}, {} lowered protection{}, {} thing{} that the stock image does not explain",
        out_.changes.size(), out_.changes.size() == 1 ? "" : "s", out_.lowered.size(),
        out_.lowered.size() == 1 ? "" : "s", out_.unexplained.size(),
        out_.unexplained.size() == 1 ? "" : "s");
    if (same_bytes) {
      out_.verdict = AgainstVerdict::Stock;
      out_.build = SameBuild::Same;
      out_.sentence = "It is the firmware's own image, byte for byte.";
    } else if (only_flags()) {
      out_.verdict = AgainstVerdict::Flags;
      out_.build = SameBuild::Same;
      out_.sentence = fmt::format(
          "It is the firmware's own, with other verification flags ({} instead of {}), as Wexlo's "
          "recipes set them; wexlo restore undoes that.",
          out_.changes.front().after, out_.changes.front().before);
    } else if (out_.build == SameBuild::Other) {
      out_.verdict = AgainstVerdict::OtherBuild;
      out_.sentence = fmt::format(
          "It is of another build than this firmware: do not flash it "
          "here. {}.",
          what);
    } else if (carries_own_patch(one_, context_)) {
      out_.verdict = AgainstVerdict::Journaled;
      out_.sentence = fmt::format(
          "It was patched by Wexlo from this build or one like it: {}; "
          "wexlo restore proves which.",
          what);
    } else if (out_.changes.empty()) {
      out_.verdict = AgainstVerdict::SameContent;
      out_.sentence =
          "What a kernel gets is the firmware's: it is only packed, padded or signed "
          "differently.";
    } else {
      out_.verdict = AgainstVerdict::Patched;
      out_.sentence =
          fmt::format("It is {} build, patched by another tool: {}.",
                      out_.build == SameBuild::Same ? "of this" : "perhaps of this", what);
    }
  }

  const Subject& one_;
  const Subject& stock_;
  const Context& context_;
  std::map<std::string, std::string> files_, stock_files_;
  bool other_ = false;
  AgainstStock out_;
};

}  // namespace

std::string_view build_name(SameBuild build) {
  constexpr std::array<std::string_view, 3> kNames{"same", "other", "unknown"};
  return kNames[static_cast<std::size_t>(build)];
}

std::string_view against_name(AgainstVerdict verdict) {
  constexpr std::array<std::string_view, 6> kNames{"stock",         "same-content", "journaled",
                                                   "flags-changed", "patched",      "other-build"};
  return kNames[static_cast<std::size_t>(verdict)];
}

Result<AgainstStock> judge_changed(const Subject& one, const Subject& stock,
                                   const Context& context) {
  WEXLO_TRY(const ImageComparison comparison, compare_images(*stock.loaded, *one.loaded, context));
  return Stranger(one, stock, context).run(comparison);
}

}  // namespace wexlo
