#pragma once
/// Boot images, header versions 0 to 4 (boot, init_boot, recovery partitions), and vendor_boot
/// images, versions 3 and 4: docs/formats/boot.md.

#include <optional>

#include "base/digest.hpp"
#include "image/layout.hpp"

namespace wexlo::boot {

inline constexpr std::string_view kMagic = "ANDROID!";
inline constexpr std::string_view kVendorMagic = "VNDRBOOT";

[[nodiscard]] bool looks_like_boot(View start);
[[nodiscard]] bool looks_like_vendor_boot(View start);

/// A version 0 image may have a device-tree section: then its size stands where later versions have
/// their number. Errors: BadMagic, Unsupported (header version), those of Image::parse, and for
/// vendor_boot those of check_fragments.
[[nodiscard]] Result<Image> parse_boot(const Blob& bytes);
[[nodiscard]] Result<Image> parse_vendor_boot(const Blob& bytes);

/// The command line: field `cmdline`, then for versions 0-2 `extra_cmdline`.
[[nodiscard]] std::string cmdline(const Image& image);

/// vendor_boot version 4: the bootconfig's text; empty for others.
[[nodiscard]] std::string bootconfig(const Image& image);

/// `A.B.C` and `YYYY-MM` of the packed field os_version; empty where the value is 0.
/// Packing: bits 31-11 three times 7 bits, 10-4 year - 2000, 3-0 month.
struct OsVersion {
  std::string version, patch_level;
};
[[nodiscard]] OsVersion os_version(const Image& image);

/// What the partition's own use is, told from the content: "init_boot" (version 4, no kernel),
/// else the layout's kind. A recovery image has the form of a boot image.
[[nodiscard]] std::string_view partition_kind(const Image& image);

/// The id field of versions 0-2: SHA-1 (or, some makers, SHA-256) over the sections and their
/// sizes. nullopt when no known recipe gives the stored value (or the version has none).
[[nodiscard]] std::optional<bool> id_matches(const Image& image);  ///< nullopt: nothing to check

/// The recipe that the stored id follows, if a known one does. An image that is edited gets a true
/// id exactly when the stock one was true.
[[nodiscard]] std::optional<DigestKind> id_recipe(const Image& image);

/// Makes the header's derived fields true after sections were replaced: recovery_dtbo_offset, the
/// id (by `recipe`, which was asked of the stock image).
[[nodiscard]] Status refresh(Image& image, std::optional<DigestKind> recipe);

/// Writes a command line: for versions 0-2 the first 511 bytes, a NUL, and the rest in
/// extra_cmdline, which readers of either style take right. Errors: OutOfRange (too long).
[[nodiscard]] Status set_cmdline(Image& image, std::string_view text);

}  // namespace wexlo::boot
