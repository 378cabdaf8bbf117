#pragma once
/// The stock image out of the patched one: docs/formats/way-back.md. The image carries the
/// difference between the two, both seen unpacked; what is packed again must come out as it was,
/// and is carried whole where it does not.

#include <map>

#include "codec/settings.hpp"
#include "firmware/formats.hpp"
#include "image/fragments.hpp"
#include "recipe/journal.hpp"

namespace wexlo {

/// A packed stream of an image.
struct ImageStream {
  std::uint64_t offset = 0;  ///< in the file, as it was read
  Blob encoded;              ///< as it stands; empty: it is about to be packed anew
  Compression compression = Compression::None;
  Framing framing;
  Blob decoded;  ///< what it unpacks to
  /// A ramdisk's archive as it is now; what a journal adds to it does not count.
  std::optional<newc::Archive> archive{};
};

/// An image as the way back sees it.
struct Unfolded {
  std::vector<ImageStream> streams;  ///< by offset
  Blob rest;  ///< what else of it is known to stay as it is when a journal is added
};
/// An image that was read. Ramdisks that do not read are a part of the rest.
[[nodiscard]] Unfolded unfold(const Image& image, const Context& context);
/// One that is being edited. @param ramdisks  of its parts, as they are now
struct OpenPart {
  const boot::RamdiskPart* part = nullptr;
  const Ramdisk* ramdisk = nullptr;
};
enum class Side {
  Stock,    ///< as they were read
  Patched,  ///< as they are now
};
[[nodiscard]] Unfolded unfold(const Image& image, const std::vector<OpenPart>& ramdisks, Side side,
                              const Context& context);

/// A stock stream that is to be packed again on the way back: whether that gives its bytes is being
/// found out while the image is written.
struct Repacking {
  Compression compression = Compression::None;
  Framing framing;
  Blob decoded, encoded;
  bool same = false;  ///< the answer
};

struct MadeWayBack {
  Bytes carried;  ///< packed for carrying
  /// One for each stream whose setting is not proven yet; the answers are there once `tasks` is
  /// waited for.
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

/// The stock image. @param known  streams that were packed again before, and need not be once more
/// Errors: NoWayBack (the image carries none), DigestMismatch (what comes out is
/// not what the journal recorded), Corrupt and the like (the way back itself is damaged).
[[nodiscard]] Result<Blob> follow_way_back(
    const LoadedImage& patched, const Journal& journal, const Context& context,
    const std::vector<std::shared_ptr<Repacking>>& known = {});

/// The journal of the image's ramdisks; nullopt: it carries none. Errors: those of read_journal.
/// A ramdisk that does not read carries none.
[[nodiscard]] Result<std::optional<Journal>> find_journal(const Image& image,
                                                          const Context& context);

/// A vbmeta image as its signer left it: with the flags under which the hash that its signature
/// covers is true. That this is the image which was patched follows only where that one was as its
/// signer left it. Errors: NoWayBack (not signed; more than its flags was changed; it is as signed
/// already).
[[nodiscard]] Result<Blob> flags_as_signed(const Image& vbmeta);

}  // namespace wexlo
