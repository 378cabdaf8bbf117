#pragma once
/// Applying recipes to one image, and proving that nothing else changed.

#include <map>
#include <set>

#include "firmware/formats.hpp"
#include "recipe/journal.hpp"
#include "recipe/recipe.hpp"

namespace wexlo {

enum class Outcome {
  Applied,
  AlreadyDone,  ///< the image was as the edit wants it
  NoMatch,      ///< nothing there that the edit could act on
  Elsewhere,    ///< the edit is for another partition, or another kind of image
};
[[nodiscard]] std::string_view outcome_name(Outcome outcome);

struct EditReport {
  std::string recipe, kind, summary;
  Outcome outcome = Outcome::Elsewhere;
  bool may_miss = false;
  std::vector<std::string> details;  ///< what it did, one line each
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
  std::vector<ChangedRange> ranges;  ///< by offset
  std::vector<std::string> entries;  ///< ramdisk entries that changed, `what /place`
  std::vector<std::string> notes;    ///< sentences for the user
};

/// What the image is to the job.
struct PatchRole {
  std::string partition;  ///< its partition's name
  bool target = true;     ///< edits that name no partition are for this one
};

/// The partition that an image belongs to, from its own verified-boot footer, else from its kind.
[[nodiscard]] std::string partition_of(const LoadedImage& image);

/// Applies all edits that concern this image, re-reads the result and accounts for every changed
/// byte. An edit that matched nothing is reported, not refused: see check_matches.
/// Errors: Unexplained (with place), DoesNotFit, Unsupported (ramdisk form), and the parsers'.
[[nodiscard]] Result<Patched> patch_image(const LoadedImage& stock, const PatchRole& role,
                                          const std::vector<Recipe>& recipes,
                                          const Context& context = {});

/// NoMatch, when an edit that may not miss matched nothing in any of the images it was tried on.
/// @param reports  one list for each image, all in the recipes' order
[[nodiscard]] Status check_matches(const std::vector<std::vector<EditReport>>& reports);

/// What an edit pass means to have changed; anything else is unexplained.
struct Intent {
  struct Meant {
    std::string sha256;  ///< of the content afterwards
    std::string cause;
  };
  using Entries = std::map<std::string, Meant>;  ///< by place in the ramdisk
  std::map<std::size_t, Entries> ramdisks;       ///< by boot::RamdiskPart::index
  std::set<std::string> fields;                  ///< header fields set by an edit
  /// Ramdisks as they were decoded, to be read afresh; by the same index. May lack any.
  std::map<std::size_t, const Ramdisk*> opened;
};

/// Compares stock and patched bytes structure by structure, independently of how they were made.
/// Errors: Unexplained, and the parsers' (the output does not even read).
[[nodiscard]] Status account(const LoadedImage& stock, Patched& patched, const Intent& intent,
                             const Context& context);

}  // namespace wexlo
