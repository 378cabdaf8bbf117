#pragma once
/// The form of the way back, for those who write it and who read it: docs/formats/way-back.md.

#include <optional>

#include "codec/settings.hpp"
#include "firmware/formats.hpp"
#include "image/fragments.hpp"

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
  /// What else of it is known to stay as it is when a journal is added, in order.
  std::vector<Blob> rest;
};
/// An image that was read. Ramdisks that do not read are a part of the rest. Errors: Interrupted.
/// @param signature_renewed  its older signature is somebody's who renewed it; else it counts as
/// that where
///                  it is by Wexlo's own key
[[nodiscard]] Result<Unfolded> unfold(const LoadedImage& image, const Context& context,
                                      bool signature_renewed = false);
/// One that is being edited. @param ramdisks  of its parts, as they are now
struct OpenPart {
  const boot::RamdiskPart* part = nullptr;
  const Ramdisk* ramdisk = nullptr;
};
enum class Side {
  Stock,    ///< as they were read
  Patched,  ///< as they are now
};
/// @param signature_renewed  the image's older signature will be made anew
[[nodiscard]] Unfolded unfold(const Image& image, const std::vector<OpenPart>& ramdisks, Side side,
                              const Context& context, bool signature_renewed = false);

inline constexpr std::string_view kWayBackMagic = "wexlo way back 1\n";

/// How a stream of the stock image comes back.
enum class WayBackMode : std::uint8_t {
  Same = 0,    ///< the patched image's stream of a number, as it stands
  Packed = 1,  ///< packed again, by a setting that gave the stock bytes
  Whole = 2,   ///< carried in the difference, packed as it was
};
struct WayBackRow {
  WayBackMode mode = WayBackMode::Whole;
  std::uint64_t gap = 0;   ///< bytes between the stream before and this one
  std::uint64_t size = 0;  ///< unpacked (Packed), as it stands (Whole), number (Same)
  Compression compression = Compression::None;
  Framing framing;
};

void put_row(Bytes& out, const WayBackRow& row);
/// Takes one from the front. Errors: Truncated, BadValue (a mode, a compression, a setting that is
/// not known).
[[nodiscard]] Result<WayBackRow> take_row(View& in);

/// What the difference counts from: all of the patched image that is the same once the journal is
/// in it, but for streams that come back as they stand.
[[nodiscard]] Bytes way_back_source(const Unfolded& patched, const std::vector<bool>& same);

/// What takes a stream's place in the patched image: blocks that nobody touched keep their bytes.
[[nodiscard]] StockStream beside(const Unfolded& patched, Compression kind);

}  // namespace wexlo
