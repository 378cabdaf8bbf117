#pragma once
/// A boot image in the form of an ELF32 program: its first segment is the kernel, the second the
/// ramdisk, further ones a radio's data or the command line as text. Kernel and ramdisk are
/// replaced in their places, everything else is carried: docs/formats/wrappings.md.

#include "image/layout.hpp"

namespace wexlo::boot {

/// Told by the segments, and by the kernel that the first of them begins with.
[[nodiscard]] bool looks_like_elf_boot(View start);

/// Errors: Truncated (a segment outside the file), BadValue (segments overlap, or program headers
/// stand where they do not belong).
[[nodiscard]] Result<Image> parse_elf_boot(const Blob& bytes);

}  // namespace wexlo::boot
