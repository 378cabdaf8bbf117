#pragma once
/// The stock image again, from a patched one: docs/formats/way-back.md.

#include <filesystem>
#include <functional>
#include <optional>

#include "recipe/patched.hpp"

namespace wexlo {

struct RestoreOptions {
  /// The stock image as it was kept, e.g. in a kit; empty: from the patched image alone.
  std::filesystem::path stock;
  /// The stock image's SHA-256 as a kit recorded it for a patched image's; empty text: no kit did.
  std::function<Result<std::string>(const std::string& patched)> recorded;
};

/// Where the stock bytes came from.
enum class RestoredFrom : std::uint8_t {
  Image,      ///< the patched image itself: its way back
  StockCopy,  ///< the copy of the stock image that was given
  Signature,  ///< of a vbmeta, which is signed with the flags that it had
};
/// As JSON has it, e.g. "stock-copy".
[[nodiscard]] std::string_view restored_name(RestoredFrom from);

struct Restored {
  Blob bytes;
  std::string sha256;
  std::string partition;
  RestoredFrom from = RestoredFrom::Image;
  std::string proof;                ///< a clause: what says that it is the stock image
  std::vector<std::string> undone;  ///< the edits that are gone with it, `recipe: summary`
  std::vector<std::string> notes;   ///< sentences for the user
};

/// Errors: NoWayBack (not a patched image, or one that cannot go back alone), DigestMismatch (the
/// copy, or what comes out, is not the stock image that was recorded), those of reading.
[[nodiscard]] Result<Restored> restore_image(const LoadedImage& patched,
                                             const RestoreOptions& options, const Context& context);

}  // namespace wexlo
