#pragma once
/// Whether an image was patched by Wexlo: such images are made for unlocked phones.

#include "judge/subject.hpp"

namespace wexlo {

/// A journal in a ramdisk, or a vbmeta of which nothing but the flags was changed after it was
/// signed.
[[nodiscard]] bool carries_own_patch(const Subject& one, const Context& context);

}  // namespace wexlo
