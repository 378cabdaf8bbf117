#pragma once
/// Images that an older incremental package patches as a whole, by the calls of its script
/// (apply_patch, patch_partition): docs/formats/transfer-list.md.

#include "archive/bundle.hpp"
#include "firmware/opening.hpp"

namespace wexlo {

struct ScriptPatch {
  std::string partition;
  std::string file;                          ///< the patch's, in the package
  std::uint64_t old_size = 0, new_size = 0;  ///< bytes
  std::string old_sha1, new_sha1;            ///< lower-case hex
};
/// The calls that are whole; others are passed over.
[[nodiscard]] std::vector<ScriptPatch> read_script_patches(std::string_view script);

/// The new image. Reading needs the older build, and checks both digests.
/// Errors of reading: Unsupported (no older build was given), DigestMismatch, those of the patch.
[[nodiscard]] ContentPtr script_patch_content(const ScriptPatch& what, SourcePtr patch,
                                              const Opening& opening);

}  // namespace wexlo
