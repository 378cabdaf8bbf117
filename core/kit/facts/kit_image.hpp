#pragma once
/// The images of a kit: one ordered list, from the choice of images to the manifest, the judge, the
/// plan and the report.

#include <optional>
#include <string_view>
#include <vector>

#include "kit/facts/given.hpp"
#include "kit/facts/kit_file.hpp"
#include "recipe/patched.hpp"

namespace wexlo {

/// How an image came to be what it is.
enum class Made {
  Patched,  ///< by recipes; also of one that was given
  Given,    ///< as it was given, no recipe acted on it
  Stock,    ///< the firmware's own
};
[[nodiscard]] std::string_view made_word(Made made);
[[nodiscard]] std::optional<Made> made_of(std::string_view word);

struct KitImage {
  std::string partition;  ///< as it was named: `boot_b` for one slot alone
  std::string logical{};  ///< its name in super, with its slot; empty: it is not in there
  Made made = Made::Patched;
  bool written = true;  ///< false: looked at, and nothing in it has to change
  /// A recovery that the package to be installed needs on the phone before.
  bool before_install = false;
  /// What is written. Bytes of a boot-class image are held; of a larger one they stay in its file.
  SourcePtr content{};
  SourcePtr stock{};                  ///< the firmware's own; nullptr: it has none
  Patched patched{};                  ///< the account of what recipes did
  Blob stock_bytes{};                 ///< of the firmware's own, where the image is held
  std::string stock_sha256{};         ///< of those; lower-case hex
  std::optional<Given> given{};       ///< as it was given, with Made::Given
  KitContent flash{}, stock_files{};  ///< as files of the kit

  [[nodiscard]] bool is_logical() const { return !logical.empty(); }
  /// Held in memory: it can be patched, signed and drawn.
  [[nodiscard]] bool is_held() const { return !patched.bytes.empty(); }
  [[nodiscard]] std::uint64_t size() const { return content ? content->size() : flash.size; }
};
using KitImages = std::vector<KitImage>;

/// nullptr: there is none.
[[nodiscard]] KitImage* find_image(KitImages& images, std::string_view partition);
[[nodiscard]] const KitImage* find_image(const KitImages& images, std::string_view partition);

/// The order in which they are written: what was given and is large first (a system that a boot
/// image belongs to), then the others as they came, the struct that covers all others last.
void put_in_order(KitImages& images);

}  // namespace wexlo
