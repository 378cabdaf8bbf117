#include "job/kit_check.hpp"

#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/source_read.hpp"

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
    WEXLO_TRY(const SourcePtr source, open_file(folder_ / "kit.json"));
    WEXLO_TRY(const Blob text, read_all(*source, kMaxManifest));
    const json kit = json::parse(as_text(text.view()), nullptr, false);
    if (!kit.is_object())
      return fail({.code = ErrorCode::BadValue,
                   .message = "kit.json is not readable as JSON",
                   .file = (folder_ / "kit.json").string()});
    WEXLO_CHECK(walk(kit));
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

  void problem(const std::string& name, std::string message) {
    out_.findings.push_back({"problem", "kit-file", std::move(message), name});
  }

  Status file(const json& row) {
    WEXLO_CHECK(check_stop(context_));
    const std::string name = text_of(row, "file"), sha256 = text_of(row, "sha256");
    const fs::path path = fs::path(name).lexically_normal();
    if (name.empty()) return {};
    if (path.is_absolute() || *path.begin() == "..") {
      problem(name, "The kit names a file outside its folder.");
      return {};
    }
    ++out_.files;
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
  KitState out_;
};

}  // namespace

Result<KitState> check_kit(const fs::path& folder, const Context& context) {
  return KitCheck(folder, context).run();
}

}  // namespace wexlo
