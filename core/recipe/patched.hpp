#pragma once
/// What a patch did to an image, as data: edits, changed bytes, the way back.

#include <map>
#include <set>

#include "base/finding.hpp"
#include "firmware/formats.hpp"
#include "ramdisk/ramdisk.hpp"
#include "recipe/edit.hpp"
#include "recipe/values.hpp"

namespace wexlo {

enum class Outcome {
  Applied,
  AlreadyDone,  ///< the image was as the edit wants it
  NoMatch,      ///< nothing there that the edit could act on
  Elsewhere,    ///< the edit is for another partition, or another kind of image
  Skipped,      ///< its conditions do not hold for this image
};
[[nodiscard]] std::string_view outcome_name(Outcome outcome);

/// What an edit did in one place.
struct Effect {
  std::string where;              ///< "/init", "cmdline", "kernel 0x1234", "dtb 0 /chosen:bootargs"
  std::string before, after;      ///< a short word for each: a value, or a size and digest
  std::vector<std::string> diff;  ///< of texts: lines taken out (`-`) and put in (`+`)
};

struct EditReport {
  std::string recipe, kind, summary;
  Outcome outcome = Outcome::Elsewhere;
  bool may_miss = false;
  std::string why;                   ///< why it acted (or did not act) here
  std::vector<std::string> details;  ///< what it did, one line each
  std::vector<Effect> effects;
};

/// Two edits that want different things of one place; the later one has its way.
struct Conflict {
  std::string where;           ///< as in an effect
  std::string earlier, later;  ///< recipe and summary
  bool operator==(const Conflict&) const = default;
};

/// A protection of the phone that an edit lowers.
struct Lowered {
  FindingCode code;   ///< one of the protections
  std::string about;  ///< one sentence: what can happen now
  bool operator==(const Lowered&) const = default;
};

/// How the stock image can be had again.
struct WayBack {
  bool in_image = false;   ///< from the patched image alone, proven by doing it
  std::uint64_t size = 0;  ///< bytes that the image carries for it, before they are packed
  std::string reason;      ///< a clause: why it is so
};

/// A place in the output whose bytes differ from the stock image's at the same offset. Every
/// differing byte lies in one range.
struct ChangedRange {
  std::uint64_t offset = 0, size = 0;
  std::string region;  ///< "header field ramdisk_size", "ramdisk", "padding of ramdisk", "tail"
  std::string cause;
};

struct Patched {
  Blob bytes;          ///< the input's own when nothing changed
  std::string sha256;  ///< of the bytes, lower-case hex
  bool changed = false;
  std::vector<EditReport> edits;     ///< in the recipes' order
  std::vector<EditReport> added;     ///< what the image's layout asked for besides
  std::vector<ChangedRange> ranges;  ///< by offset
  std::vector<std::string> entries;  ///< ramdisk entries that changed, `what /place`
  std::vector<Remark> notes;         ///< for the user
  std::vector<Conflict> conflicts;
  std::vector<Lowered> lowered;
  std::vector<Finding> warnings;  ///< what the patch leads to, and nobody asked for
  WayBack way_back;
};

/// What the image is to the job.
struct PatchRole {
  std::string partition;  ///< its partition's name
  bool target = true;     ///< edits that name no partition are for this one
  /// What it is looked to for; nullopt: all that it can hold, as when it is patched alone.
  std::optional<std::set<Home>> homes{};
  PhoneFacts phone{};
  /// Signs of another tool, when the user allowed to patch on top of them.
  std::vector<std::string> foreign{};
  std::string sha256{};  ///< of the image as it is, where that is known; lower-case hex
  bool allow_programs =
      false;  ///< the user allowed that recipes run programs that they bring along
};

/// What an edit pass means to have changed; anything else is unexplained.
struct Intent {
  struct Meant {
    std::optional<std::string> sha256;  ///< of the content afterwards; nullopt: it is gone
    std::string cause;
  };
  using Entries = std::map<std::string, Meant>;  ///< by place in the ramdisk
  std::map<std::size_t, Entries> ramdisks;       ///< by boot::RamdiskPart::index
  /// What was put in whole, and counts as the stock part from there on: ramdisks by the same
  /// index, sections by name.
  std::map<std::size_t, Blob> replaced_ramdisks;
  std::map<std::string, Blob> replaced;
  /// Where fragments were added or taken out: which stock ramdisk each of the output's was, by
  /// index; nullopt: it was added.
  std::optional<std::vector<std::optional<std::size_t>>> fragments;
  std::map<std::size_t, boot::FragmentKey> added;  ///< by index in the output
  std::optional<std::uint32_t> struct_flags;       ///< of the struct in the image's own footer
  std::map<std::string, std::string> fields;       ///< header fields set by an edit, and why
  std::map<std::string, Meant> sections;           ///< texts that are a section
  struct Span {
    std::uint64_t offset = 0, size = 0;
    std::string cause;
  };
  std::vector<Span> kernel;                  ///< bytes of the kernel as it runs
  std::optional<std::uint64_t> kernel_size;  ///< of the kernel as it runs; nullopt: as it was
  /// Device trees by section and number: `/node:property`, or `/node`, and why.
  std::map<std::pair<std::string, std::size_t>, std::map<std::string, std::string>> trees;
  /// Ramdisks as they were decoded, to be read afresh; by the same index. May lack any.
  std::map<std::size_t, const Ramdisk*> opened;
};

}  // namespace wexlo
