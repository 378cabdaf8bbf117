#pragma once
/// Files that belong together, whatever holds them: a zip, a tar, a folder.

#include <filesystem>
#include <functional>
#include <string>
#include <vector>

#include "base/pool.hpp"
#include "base/source.hpp"

namespace wexlo {

struct Item {
  std::string path;  ///< parted by '/', relative to the bundle
  std::uint64_t size = 0, stored_size = 0;
  std::function<Result<SourcePtr>(const Context& context)> open;
  std::string partition{};  ///< what its container says it is for; empty: nothing
};

struct Bundle {
  std::string name;  ///< what holds them, for messages
  std::vector<Item> items;
};

/// The part behind the last '/'.
[[nodiscard]] std::string_view base_name(std::string_view path);

/// A text among them, whole. @param most  bytes that are read at all
/// Errors: LimitExceeded, those of opening and reading.
[[nodiscard]] Result<std::string> read_text(const Item& item, std::uint64_t most,
                                            const Context& context);

/// A path that stays inside its bundle: relative, without "..". Errors: UnsafePath.
[[nodiscard]] Status check_paths(const Bundle& bundle);

/// All regular files below a folder, sorted by path; hidden ones and links to folders are passed
/// over. Errors: NotFound, Permission, LimitExceeded (more than 10,000 files, deeper than 6).
[[nodiscard]] Result<Bundle> bundle_of_folder(const std::filesystem::path& folder);

}  // namespace wexlo
