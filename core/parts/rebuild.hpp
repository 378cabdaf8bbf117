#pragma once
/// Putting edited ramdisks back into an image and making everything around them true.

#include <string>
#include <vector>

#include "base/digest.hpp"
#include "base/finding.hpp"
#include "image/layout.hpp"
#include "ramdisk/ramdisk.hpp"

namespace wexlo::parts {

struct EditedRamdisk {
  std::size_t part = 0;  ///< boot::RamdiskPart::index
  const Ramdisk* ramdisk = nullptr;
};

/// Encodes what was touched, then renews sizes, offsets, the id, the prefix, the padding and
/// the verified-boot footer. When the image no longer fits, the densest setting of the ramdisk's
/// own format is tried before giving up.
/// @param image  other sections already replaced; its tail and prefix still the stock ones
/// @param id     boot::id_recipe of the stock image
/// @param flags  for the struct of the image's own footer; nullopt: as it has
/// @return notes for the user. Errors: DoesNotFit (by how many bytes, and what would help), and
/// those of encode().
[[nodiscard]] Result<std::vector<Remark>> rebuild(Image& image, const Blob& stock,
                                                  std::optional<DigestKind> id,
                                                  const std::vector<EditedRamdisk>& edited,
                                                  const Context& context,
                                                  std::optional<std::uint32_t> flags = {});

}  // namespace wexlo::parts
