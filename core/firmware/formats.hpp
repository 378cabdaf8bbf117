#pragma once
/// The one table of everything that can be opened: containers (firmware) and images. Commands walk
/// it; a new format is one new module and one row in formats.cpp.

#include <functional>
#include <memory>
#include <string>

#include "firmware/firmware.hpp"
#include "image/layout.hpp"
#include "image/prefix.hpp"

namespace wexlo {

/// How much of an input a probe needs to see.
inline constexpr std::size_t kProbeSize = 4096;
/// Larger files are not read whole as an image.
inline constexpr std::uint64_t kMaxImage = 1u << 30;

struct Format {
  std::string_view kind;  ///< "ota-zip", "payload", "boot", "vendor_boot", "vbmeta", "ext4", …
  bool (*probe)(View start);
  /// Exactly one of the two is set, or neither: recognised, and carried whole.
  Result<std::unique_ptr<Firmware>> (*open_firmware)(SourcePtr source) = nullptr;
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

/// Opens a container. Errors: BadMagic, Unsupported (an image instead), those of the container.
[[nodiscard]] Result<std::unique_ptr<Firmware>> open_firmware(const std::filesystem::path& path);

/// An image file with its bytes.
struct LoadedImage {
  const Format* format = nullptr;
  Blob bytes;
  std::optional<Image> image;  ///< empty when the kind is carried whole
};
/// Errors: BadMagic, Unsupported (a container instead), LimitExceeded, those of the parser; the
/// file's name is in them.
[[nodiscard]] Result<LoadedImage> load_image(const Source& source);
[[nodiscard]] Result<LoadedImage> load_image(const Blob& bytes, const std::string& name);

}  // namespace wexlo
