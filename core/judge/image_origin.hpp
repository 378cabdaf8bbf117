#pragma once
/// Which tool changed an image, judged from the image alone: docs/origin.md.

#include "judge/origin.hpp"
#include "verified/struct_info.hpp"

namespace wexlo {

struct ImageOrigin {
  Origin origin;
  std::vector<std::string> foreign;  ///< clauses: what shows another tool's patch; may be empty
};

/// The digests that an image carries over itself, as far as they were looked at.
[[nodiscard]] std::vector<OwnDigest> own_digests(const std::optional<FooterInfo>& footer,
                                                 const std::optional<VbmetaInfo>& vbmeta,
                                                 const std::optional<FooterInfo>& boot_signature,
                                                 const std::optional<bool>& id_matches);

/// Of a boot or vendor_boot image; another has an unknown origin.
/// @param file  its own path; may be empty: see judge_origin
/// Errors: those of the footer, Interrupted.
[[nodiscard]] Result<ImageOrigin> origin_of(const LoadedImage& image,
                                            const std::filesystem::path& file,
                                            const Context& context);
/// The same of an image that was read already.
[[nodiscard]] Result<ImageOrigin> origin_of(const LoadedImage& image, const ImageReading& reading,
                                            const std::filesystem::path& file);

}  // namespace wexlo
