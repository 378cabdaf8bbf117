#pragma once
/// The stock image out of the patched one: docs/formats/way-back.md. The image carries the
/// difference between the two, both seen unpacked; what is packed again must come out as it was,
/// and is carried whole where it does not.

#include <map>

#include "codec/settings.hpp"
#include "recipe/journal.hpp"
#include "recipe/way_back_form.hpp"

namespace wexlo {

/// A stock stream that is packed again on the way back, and whether that gives its bytes.
struct Repacking {
  Compression compression = Compression::None;
  Framing framing;
  Blob decoded, encoded;
  bool same = false;  ///< it was tried, and does
};

struct MadeWayBack {
  Bytes carried;  ///< packed for carrying
  /// One for each stream that is packed again; the last answers are there once `tasks` is waited
  /// for.
  std::vector<std::shared_ptr<Repacking>> repackings;
  /// What was found of the stock streams that are packed again, by their first byte: the patched
  /// image's need not be searched for once more.
  std::map<const std::byte*, Setting> settings;
};
/// What leads from the patched image to the stock one. Errors: Interrupted.
/// @param whole  carry every touched stream as it was: none is packed again
/// @param tasks  takes the proofs that are still to be given; must not outlive the context
[[nodiscard]] Result<MadeWayBack> make_way_back(const Blob& stock_bytes, const Unfolded& stock,
                                                const Unfolded& patched, bool whole,
                                                TaskGroup& tasks, const Context& context);

/// Whether the way back leads to these very bytes. What it gives is compared as it comes, and what
/// was packed again before is not packed once more.
/// Errors: NoWayBack (the image carries none; it leads elsewhere), Corrupt and the like (the way
/// back is damaged).
[[nodiscard]] Status check_way_back(const LoadedImage& patched, const Journal& journal,
                                    const Blob& stock,
                                    const std::vector<std::shared_ptr<Repacking>>& known,
                                    const Context& context);
/// The stock image. Errors: NoWayBack (the image carries none), Corrupt and the like (the way back
/// is damaged), DigestMismatch (what comes out is not what the journal recorded).
[[nodiscard]] Result<Blob> follow_way_back(const LoadedImage& patched, const Journal& journal,
                                           const Context& context);

/// The journal of the image's ramdisks; nullopt: it carries none. Errors: those of read_journal.
/// A ramdisk that does not read carries none.
[[nodiscard]] Result<std::optional<Journal>> find_journal(const LoadedImage& image,
                                                          const Context& context);

/// A vbmeta image as its signer left it: with the flags under which the hash that its signature
/// covers is true. That this is the image which was patched follows only where that one was as its
/// signer left it. Errors: NoWayBack (not signed; more than its flags was changed; it is as signed
/// already).
[[nodiscard]] Result<Blob> flags_as_signed(const Image& vbmeta);

}  // namespace wexlo
