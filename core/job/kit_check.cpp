#include "job/kit_check.hpp"

#include <fmt/format.h>

#include <nlohmann/json.hpp>
#include <set>

#include "base/source_read.hpp"
#include "job/kit_folder.hpp"
#include "job/prepare.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

using json = nlohmann::json;

constexpr std::uint64_t kMaxManifest = 16u << 20;

std::string text_of(const json& row, const char* key) {
  const auto at = row.find(key);
  return at != row.end() && at->is_string() ? at->get<std::string>() : "";
}

class KitCheck {
 public:
  KitCheck(const fs::path& folder, const Context& context) : folder_(folder), context_(context) {}

  Result<KitState> run() {
    const auto source = open_file(folder_ / kKitManifest);
    if (!source) {
      problem(std::string(kKitManifest), "The kit's manifest is gone, or cannot be read.");
      WEXLO_CHECK(listed());
      return std::move(out_);
    }
    WEXLO_TRY(const Blob text, read_all(**source, kMaxManifest));
    const json kit = json::parse(as_text(text.view()), nullptr, false);
    if (!kit.is_object())
      return fail({.code = ErrorCode::BadValue,
                   .message = "kit.json is not readable as JSON",
                   .file = (folder_ / "kit.json").string()});
    WEXLO_CHECK(walk(kit));
    WEXLO_CHECK(listed());
    WEXLO_CHECK(strangers());
    if (const auto at = kit.find("verification"); at != kit.end() && at->is_object())
      out_.needs = text_of(*at, "needs");
    return std::move(out_);
  }

 private:
  /// Whatever names a file and its digest is a file of the kit.
  Status walk(const json& value) {
    if (value.is_object() && value.contains("file") && value.contains("sha256"))
      WEXLO_CHECK(file(value));
    if (value.is_structured())
      for (const json& one : value)
        WEXLO_CHECK(walk(one));
    return {};
  }

  /// The list of all files, kit.json among them. Kits of older builds have none.
  Status listed() {
    const auto source = open_file(folder_ / kKitDigests);
    if (!source) return {};
    WEXLO_TRY(const Blob bytes, read_all(**source, kMaxManifest));
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
      WEXLO_CHECK(file(std::string(line.substr(kName)), std::string(line.substr(0, kDigits))));
    }
    return {};
  }

  /// What the kit was not made with.
  Status strangers() {
    if (!seen_.contains(std::string(kKitDigests))) return {};
    std::error_code error;
    for (fs::recursive_directory_iterator at(folder_, error), end; at != end && !error;
         at.increment(error)) {
      if (at->is_directory(error)) continue;
      const std::string name = at->path().lexically_relative(folder_).generic_string();
      if (!seen_.contains(name))
        out_.findings.push_back({"warning", "kit-file-extra",
                                 "The kit was not made with this file: nothing vouches for it.",
                                 name});
    }
    return {};
  }

  void problem(const std::string& name, std::string message) {
    out_.findings.push_back({"problem", "kit-file", std::move(message), name});
  }

  Status file(const json& row) { return file(text_of(row, "file"), text_of(row, "sha256")); }

  Status file(const std::string& name, const std::string& sha256) {
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
    const auto found = digest_of_start(**source, (*source)->size(), DigestKind::Sha256, context_);
    if (!found && found.error().code == ErrorCode::Interrupted) return fail(found.error());
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

Result<KitState> check_kit(const fs::path& folder, const Context& context) {
  return KitCheck(folder, context).run();
}

}  // namespace wexlo
