#pragma once
/// Names and renames beside an output, for those who write files and folders. A temporary lies
/// beside its target, so that a rename puts it in place, and is locked as long as its run lives.

#include <filesystem>
#include <string>

#include "base/error.hpp"

namespace wexlo {

/// Removes a file, or a folder with all in it, as far as that can be done. No folder is held open:
/// it works with one descriptor, where a run ends since there are no more.
void remove_tree(const std::filesystem::path& path);

}  // namespace wexlo

namespace wexlo::output {

inline constexpr std::string_view kPartial = ".partial";
/// The folder that was there before, while it is replaced where the system cannot exchange two.
inline constexpr std::string_view kBefore = ".before";

/// A name beside `target` that no other run uses; the leading dot keeps it out of `*.img`.
[[nodiscard]] std::filesystem::path temporary_beside(const std::filesystem::path& target,
                                                     std::string_view ending);
/// `dir/` and `dir/.` name the folder `dir`: a temporary has to stand beside it, not inside.
[[nodiscard]] std::filesystem::path without_slash(const std::filesystem::path& target);

/// Held as long as its owner lives: who gets it on a temporary knows that nobody works on it.
/// @param flags  of open(2), besides  @return a descriptor, or -1
[[nodiscard]] int lock(const std::filesystem::path& path, int flags);

/// Removes what a killed run left behind for the same target. One that lives holds a lock; one on
/// another machine may, too, and its number says nothing here.
void sweep(const std::filesystem::path& target);

[[nodiscard]] Error exists_error(const std::filesystem::path& target, std::string hint);

/// Flushes a file, or a folder (flags: O_DIRECTORY).
[[nodiscard]] Status sync_path(const std::filesystem::path& path, int flags);

/// Renames without replacing, also on file systems that lack the flag. @return 0, or -1 and errno
[[nodiscard]] int rename_new(const std::filesystem::path& from, const std::filesystem::path& to);

}  // namespace wexlo::output
