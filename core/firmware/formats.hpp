#pragma once
/// The one table of everything that can be opened: containers, what wraps one source in another,
/// and images. Commands walk it; a new format is one new module and one row in format_table.cpp.

#include <memory>
#include <string>

#include "codec/codec.hpp"
#include "firmware/file_names.hpp"
#include "firmware/opening.hpp"
#include "image/layout.hpp"
#include "image/prefix.hpp"
#include "ramdisk/decoded.hpp"

namespace wexlo {

/// How much of an input a probe needs to see: the backup geometry of super is the last of all.
inline constexpr std::size_t kProbeSize = 12u << 10;
/// Larger files are not read whole as an image.
inline constexpr std::uint64_t kMaxImage = 1u << 30;

struct Format {
  std::string_view kind;  ///< "zip", "payload", "sparse", "boot", "vbmeta", "ext4", …
  bool (*probe)(View start);
  /// One of the three is set, or none: recognised, and carried whole.
  Result<FirmwarePtr> (*open)(const SourcePtr& source, const Opening& opening) = nullptr;
  Result<SourcePtr> (*unwrap)(const SourcePtr& source, const Opening& opening) = nullptr;
  Result<Image> (*parse_image)(const Blob& bytes) = nullptr;
};

/// The row whose probe fits, or nullptr.
[[nodiscard]] const Format* find_format(View start);

/// A row, and what stands before the image in its file.
struct Identified {
  const Format* format = nullptr;
  prefix::Prefix prefix{};  ///< size 0: nothing
};
/// Looks behind makers' prefixes too. Errors: BadMagic, naming what is known, when no row fits; Io.
[[nodiscard]] Result<Identified> identify(const Source& source);
/// The same for the first bytes of an image; nullopt: no row fits.
[[nodiscard]] std::optional<Identified> identify_bytes(View start);

/// What is left when everything that only wraps was taken off.
struct Unwrapped {
  SourcePtr source;
  std::vector<Layer> layers;       ///< that were taken off, outermost first
  const Format* format = nullptr;  ///< nullptr: its first bytes are of no known format
};
/// @param packed  by the file's name, for a compression without a magic
/// Errors: those of the wrappers, LimitExceeded (nested too deep).
[[nodiscard]] Result<Unwrapped> unwrap(SourcePtr source, std::optional<Compression> packed,
                                       const Opening& opening);

/// Where no row fits the first bytes: a zip behind something else, a container or file that is only
/// named (firmware/named_kinds.hpp), an image behind a maker's prefix. Reads up to 1 MiB; of a
/// package's members nobody asks it. Errors: Unsupported and BadMagic for a kind that is named, Io.
[[nodiscard]] Status look_further(Unwrapped& inner);

/// Of a package's member that no row fits: Unsupported where it is a container that is not read.
[[nodiscard]] Status check_named(const Unwrapped& inner);

/// Notes a file that is named as packed and is neither that nor anything known: what is taken out
/// of it are its own bytes.
void tell_not_packed(Firmware& firmware, const FileName& file, const Unwrapped& inner,
                     const std::string& path);

/// Whatever it is, as firmware: a single image has one partition, named by its file, else its kind.
/// Errors: BadMagic, those of the container.
[[nodiscard]] Result<FirmwarePtr> open_source(const SourcePtr& source, const Opening& opening);

/// A file, a folder or an address of a web server; several: packages that make one set.
[[nodiscard]] Result<FirmwarePtr> open_firmware(const std::string& where,
                                                const Opening& opening = {});
[[nodiscard]] Result<FirmwarePtr> open_firmware(const std::vector<std::string>& where,
                                                const Opening& opening);
/// A file or an address.
[[nodiscard]] Result<SourcePtr> open_input(const std::string& where, const Context& context);

/// An image file with its bytes.
struct LoadedImage {
  const Format* format = nullptr;
  Blob bytes;
  std::optional<Image> image;  ///< empty when the kind is carried whole
  /// What the parts of `image` decode to as it was read, shared by all copies of this; nullptr
  /// where there is none.
  std::shared_ptr<DecodedImage> decoded{};
};
/// Errors: BadMagic, Unsupported (a container instead), LimitExceeded, those of the parser; the
/// file's name is in them.
[[nodiscard]] Result<LoadedImage> load_image(const Source& source);
[[nodiscard]] Result<LoadedImage> load_image(const Blob& bytes, const std::string& name);

}  // namespace wexlo
