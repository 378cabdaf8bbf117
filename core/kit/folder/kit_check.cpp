#include "kit/folder/kit_check.hpp"

#include <fmt/format.h>

#include <optional>
#include <set>

#include "base/error_kinds.hpp"
#include "base/source_read.hpp"
#include "kit/folder/kit_folder.hpp"
#include "kit/folder/manifest_read.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

constexpr std::uint64_t kMaxList = 16u << 20;

class KitCheck {
 public:
  KitCheck(const fs::path& folder, const Context& context) : folder_(folder), context_(context) {}

  Result<KitState> run() {
    auto manifest = read_kit_manifest(folder_);
    if (!manifest && cannot_be_read(manifest.error())) {
      problem(std::string(kKitManifest), "The kit's manifest is gone, or cannot be read.");
      WEXLO_CHECK(listed());
      return std::move(out_);
    }
    if (!manifest) return fail(std::move(manifest).error());
    for (const KitFile& one : manifest->files)
      WEXLO_CHECK(file(one.name, one.sha256, one.size));
    WEXLO_CHECK(listed());
    WEXLO_CHECK(strangers());
    out_.needs = manifest->needs;
    return std::move(out_);
  }

 private:
  static bool cannot_be_read(const Error& error) {
    return error.code == ErrorCode::NotFound || error.code == ErrorCode::Permission ||
           error.code == ErrorCode::Io;
  }

  /// The list of all files, kit.json among them. Kits of older builds have none.
  Status listed() {
    const auto source = open_file(folder_ / kKitDigests);
    if (!source) return {};
    WEXLO_TRY(const Blob bytes, read_all(**source, kMaxList));
    seen_.emplace(kKitDigests);
    std::string_view text = as_text(bytes.view());
    while (!text.empty()) {
      const std::string_view line = text.substr(0, std::min(text.find('\n'), text.size()));
      text.remove_prefix(std::min(line.size() + 1, text.size()));
      constexpr std::size_t kDigits = 64, kName = kDigits + 2;
      if (line.size() <= kName || line.substr(kDigits, 2) != "  ") {
        problem(std::string(kKitDigests), "A line of the list of digests does not read.");
        continue;
      }
      WEXLO_CHECK(file(std::string(line.substr(kName)), std::string(line.substr(0, kDigits)), {}));
    }
    return {};
  }

  /// What the kit was not made with.
  Status strangers() {
    if (!seen_.contains(std::string(kKitDigests))) return {};
    std::error_code error;
    for (fs::recursive_directory_iterator at(folder_, error), end; at != end && !error;
         at.increment(error)) {
      std::error_code ignored;
      if (at->is_directory(ignored)) continue;
      const std::string name = at->path().lexically_relative(folder_).generic_string();
      if (!seen_.contains(name))
        out_.findings.push_back({"warning", "kit-file-extra",
                                 "The kit was not made with this file: nothing vouches for it.",
                                 name});
    }
    if (error) return fail(io_error(error.value(), "cannot read the folder", folder_.string()));
    return {};
  }

  void problem(const std::string& name, std::string message) {
    out_.findings.push_back({"problem", "kit-file", std::move(message), name});
  }

  /// @param size  nullopt: nothing says it
  Status file(const std::string& name, const std::string& sha256,
              const std::optional<std::uint64_t>& size) {
    WEXLO_CHECK(check_stop(context_));
    const fs::path path = fs::path(name).lexically_normal();
    if (name.empty()) return {};
    if (path.is_absolute() || *path.begin() == "..") {
      problem(name, "The kit names a file outside its folder.");
      return {};
    }
    // Named by both lists, it is counted once; another digest for it is another matter.
    if (!checked_.emplace(path.generic_string(), sha256).second) return {};
    if (seen_.insert(path.generic_string()).second) ++out_.files;
    const auto source = open_file(folder_ / path);
    if (!source) {
      problem(name, "The kit's file is gone, or cannot be read.");
      return {};
    }
    if (size && (*source)->size() != *size) {
      problem(name,
              fmt::format("The file is not the one that the kit was made with: it has {} bytes, "
                          "the kit says {}. Make the kit anew.",
                          (*source)->size(), *size));
      return {};
    }
    const auto found = digest_of_start(**source, (*source)->size(), DigestKind::Sha256, context_);
    if (!found && is_of_this_run(found.error().code)) return fail(found.error());
    if (!found || hex(*found) != sha256)
      problem(name, "The file is not the one that the kit was made with: make the kit anew.");
    return {};
  }

  const fs::path& folder_;
  const Context& context_;
  std::set<std::string> seen_;
  std::set<std::pair<std::string, std::string>> checked_;  ///< file and digest
  KitState out_;
};

}  // namespace

bool is_kit(const fs::path& folder) {
  std::error_code ignored;
  if (fs::exists(folder / kKitManifest, ignored)) return true;
  return fs::exists(folder / kKitDigests, ignored) && fs::is_directory(folder / "flash", ignored);
}

std::string images_of(const std::string& path) {
  return is_kit(path) ? (fs::path(path) / "flash").string() : path;
}

Result<KitState> check_kit(const fs::path& folder, const Context& context) {
  return KitCheck(folder, context).run();
}

}  // namespace wexlo
