#pragma once
/// The stock image out of the patched one: docs/formats/way-back.md. The image carries the
/// difference between the two, both seen unpacked; what is packed again must come out as it was,
/// and is carried whole where it does not.

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
  Blob decoded;     ///< what it unpacks to
  Blob comparable;  ///< the same without what a journal adds: the same before and after it is added
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
[[nodiscard]] Unfolded unfold(const Image& image, const std::vector<OpenPart>& ramdisks,
                              const Context& context);

/// What leads from the patched image to the stock one; packed for carrying. Errors: Interrupted.
[[nodiscard]] Result<Bytes> make_way_back(const LoadedImage& stock, const Unfolded& patched,
                                          const Context& context);

/// The stock image. Errors: NoWayBack (the image carries none), DigestMismatch (what comes out is
/// not what the journal recorded), Corrupt and the like (the way back itself is damaged).
[[nodiscard]] Result<Blob> follow_way_back(const LoadedImage& patched, const Journal& journal,
                                           const Context& context);

/// The journal of the image's ramdisks; nullopt: it carries none. Errors: those of read_journal.
/// A ramdisk that does not read carries none.
[[nodiscard]] Result<std::optional<Journal>> find_journal(const Image& image,
                                                          const Context& context);

}  // namespace wexlo
