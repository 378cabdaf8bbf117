#pragma once
/// What the release of a kernel tells, and that of the kernel which a module was built for.

#include <string>
#include <string_view>

#include "base/bytes.hpp"

namespace wexlo::kernel {

/// The generation of module interfaces that a generic kernel keeps: "android13-5.15" of the release
/// "5.15.94-android13-8-00001-g0123456789ab". Empty: the release is no generic kernel's.
[[nodiscard]] std::string generation_of(std::string_view release);

/// Whether a word has the form of a generation.
[[nodiscard]] bool is_generation(std::string_view word);

/// What kernels have in common that take the same modules as far as their releases tell: of generic
/// kernels the version without its third number, the system's release and the number of the
/// interface ("5.15-android13-8"); of others the version's two numbers. Empty: no release.
[[nodiscard]] std::string series_of(std::string_view release);

/// What has to agree between a module and its kernel: of generic kernels the series, of others the
/// whole release.
[[nodiscard]] std::string module_interface(std::string_view release);

/// The release that a module was built for, by its `vermagic`, at most 128 bytes; empty: it does
/// not say.
[[nodiscard]] std::string module_release(View module);

/// Whether a release is one of `wanted`: the same, or `wanted` and more behind it ("5.15" is for
/// "5.15.94-…" and not for "5.150"); with a `*` at its end: begins with what stands before it.
[[nodiscard]] bool is_release(std::string_view release, std::string_view wanted);

}  // namespace wexlo::kernel
