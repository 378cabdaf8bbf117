#pragma once
/// The account of single parts; shared by the files that give it. Each compares what the output
/// holds with what the stock image held, and lets pass what an edit meant to change.

#include "image/fragments.hpp"
#include "ramdisk/decoded.hpp"
#include "recipe/patched.hpp"

namespace wexlo {

[[nodiscard]] std::unexpected<Error> unexplained(std::string message,
                                                 std::optional<std::uint64_t> offset = {});

/// @param base     what the entries count from: the stock ramdisk, or one put in whole
/// @param entries  gets what changed, `what /place: why`
[[nodiscard]] Status account_ramdisk(const ReadRamdisk& output, const Blob& base,
                                     const Intent& intent, std::vector<std::string>& entries,
                                     const Context& context);

/// The kernel unpacked, what stands before it, and the device trees behind it.
[[nodiscard]] Status account_kernel(const Blob& now, const Blob& base, const Intent& intent,
                                    const Context& context);

/// Device trees of a section node by node.
[[nodiscard]] Status account_trees(const std::string& section, const Blob& now, const Blob& base,
                                   const Intent& intent);

/// What stands behind the sections. @return why it differs, as ranges have it
[[nodiscard]] Result<std::string> account_tail(const LoadedImage& stock, const LoadedImage& output,
                                               const Intent& intent);

}  // namespace wexlo
