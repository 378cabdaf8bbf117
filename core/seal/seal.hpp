#pragma once
/// Making images valid again for verified boot: digests, footers, structs, signatures:
/// docs/verified-boot.md.

#include <functional>

#include "seal/seal_options.hpp"

namespace wexlo {

/// Where a sealed image goes; lives as long as the sealing does.
using OpenSink = std::function<Result<ImageSink*>(const std::string& partition)>;
/// Seals images that belong together: those with footers first, then the structs that cover
/// them. Errors: as seal.
[[nodiscard]] Result<Sealed> seal_images(const std::vector<SealInput>& images,
                                         const SealOptions& options, const OpenSink& open,
                                         const Context& context);

/// Writes DIR/PARTITION.img for every image; all of them, or none.
/// Errors: Usage (what has to be told and was not), DoesNotFit, Exists, those of signing, reading
/// and writing.
[[nodiscard]] Result<Sealed> seal(const std::vector<std::string>& images,
                                  const SealOptions& options, const std::filesystem::path& folder,
                                  const Context& context);

}  // namespace wexlo
