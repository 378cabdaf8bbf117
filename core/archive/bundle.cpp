#include "archive/bundle.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <ranges>

namespace wexlo {
namespace fs = std::filesystem;
namespace {

constexpr std::size_t kMaxFiles = 10'000;
constexpr int kMaxDepth = 6;

}  // namespace

std::string_view base_name(std::string_view path) {
  return path.substr(path.find_last_of('/') + 1);
}

Result<std::string> read_text(const Item& item, std::uint64_t most, const Context& context) {
  WEXLO_TRY(const SourcePtr source, item.open(context));
  WEXLO_TRY(const Blob bytes, read_all(*source, most));
  return std::string(as_text(bytes.view()));
}

Status check_paths(const Bundle& bundle) {
  for (const Item& item : bundle.items) {
    bool bad = item.path.starts_with('/') || item.path.contains('\0');
    for (const auto part : std::views::split(std::string_view(item.path), '/'))
      bad |= std::string_view(part.begin(), part.end()) == "..";
    if (bad)
      return fail({.code = ErrorCode::UnsafePath,
                   .message = "a member's path leads out of the package",
                   .file = bundle.name,
                   .expected = "relative paths without \"..\"",
                   .found = fmt::format("\"{}\"", item.path.substr(0, 200)),
                   .hint = "No stock firmware has such a path: do not trust this package."});
  }
  return {};
}

Result<Bundle> bundle_of_folder(const fs::path& folder) {
  Bundle out{.name = folder.string()};
  std::error_code error;
  auto walk = fs::recursive_directory_iterator(folder, error);
  if (error) return fail(io_error(error.value(), "cannot read the folder", folder.string()));
  for (; walk != fs::recursive_directory_iterator(); walk.increment(error)) {
    if (error) return fail(io_error(error.value(), "cannot read the folder", folder.string()));
    const fs::path path = walk->path();
    if (path.filename().string().starts_with('.')) {
      walk.disable_recursion_pending();
      continue;
    }
    std::error_code ignored;
    if (!walk->is_regular_file(ignored)) {
      if (walk.depth() >= kMaxDepth) walk.disable_recursion_pending();
      continue;
    }
    if (out.items.size() == kMaxFiles)
      return fail({.code = ErrorCode::LimitExceeded,
                   .message = "too many files in this folder",
                   .file = folder.string(),
                   .expected = fmt::format("at most {}", kMaxFiles),
                   .hint = "Give the folder that holds just the firmware."});
    const std::uint64_t size = walk->file_size(ignored);
    out.items.push_back({.path = fs::relative(path, folder, ignored).generic_string(),
                         .size = size,
                         .stored_size = size,
                         .open = [path](const Context&) { return open_file(path); }});
  }
  std::ranges::sort(out.items, {}, &Item::path);
  return out;
}

}  // namespace wexlo
