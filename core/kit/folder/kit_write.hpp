#pragma once
/// Writing a kit's folder from its draft.

#include "kit/folder/kit_draft.hpp"

namespace wexlo {

/// Files that somebody else makes of a draft whose digests are filled in: the report.
using MoreFiles = std::function<Status(KitFolder& folder, const KitDraft& draft)>;

/// Writes everything below `folder`, which is not yet under its final name, and fills sizes and
/// digests into the draft. Errors: those of reading and writing, Io (what was written does not read
/// back the same).
[[nodiscard]] Status write_kit(const std::filesystem::path& folder, KitDraft& draft,
                               const LayoutInput& input, const MoreFiles& more,
                               const Context& context);

}  // namespace wexlo
