#include "kit/folder/kit_files.hpp"

#include <fmt/format.h>

#include <set>

#include "base/digest.hpp"
#include "base/error_kinds.hpp"
#include "base/source_read.hpp"
#include "kit/folder/kit_folder.hpp"
#include "kit/folder/record_part.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

constexpr std::uint64_t kMaxList = 16u << 20;

class FilesCheck {
 public:
  FilesCheck(const fs::path& folder, const Context& context) : folder_(folder), context_(context) {}

  Result<KitState> run(const std::vector<KitFile>& named) {
    for (const KitFile& one : named)
      WEXLO_CHECK(file(one));
    WEXLO_CHECK(listed());
    if (!named.empty()) WEXLO_CHECK(strangers());
    return std::move(out_);
  }

 private:
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
      WEXLO_CHECK(file({std::string(line.substr(kName)), 0, std::string(line.substr(0, kDigits))}));
    }
    return {};
  }

  /// What the kit was not made with.
  Status strangers() {
    if (!seen_.contains(std::string(kKitDigests))) return {};
    WEXLO_TRY(const auto names, names_below(folder_));
    for (const std::string& name : names)
      if (!seen_.contains(name) && name != kFlashLog && name != kRecordFile)
        out_.findings.push_back({Level::Warning, FindingCode::KitFileExtra,
                                 "The kit was not made with this file: no digest covers it.",
                                 name});
    return {};
  }

  /// The record's page is put into the report later.
  Result<SourcePtr> without_page(const Source& report) {
    SplitReport split;
    WEXLO_TRY(SourcePtr out, report_as_made(report, split));
    if (!split.intact)
      problem(std::string(kReportFile), "The record's page in the report was changed.");
    out_.page = split.last;
    return out;
  }

  void problem(const std::string& name, std::string message) {
    out_.findings.push_back({Level::Problem, FindingCode::KitFile, std::move(message), name});
  }

  /// A size of 0 is one that nothing says.
  Status file(const KitFile& named) {
    WEXLO_CHECK(check_stop(context_));
    const std::string& name = named.file;
    const fs::path path = fs::path(name).lexically_normal();
    if (name.empty()) return {};
    if (!is_inside(name)) {
      problem(name, "The kit names a file outside its folder.");
      return {};
    }
    // Named by both lists, it is counted once; another digest for it is another matter.
    if (!checked_.emplace(path.generic_string(), named.sha256).second) return {};
    if (seen_.insert(path.generic_string()).second) ++out_.files;
    auto source = open_file(folder_ / path);
    if (source && name == kReportFile) source = without_page(**source);
    if (!source) {
      problem(name, "The kit's file is gone, or cannot be read.");
      return {};
    }
    if (named.size != 0 && (*source)->size() != named.size) {
      problem(name,
              fmt::format("The file is not the one that the kit was made with: it has {} bytes, "
                          "the kit says {}. Make the kit anew.",
                          (*source)->size(), named.size));
      return {};
    }
    const auto found = digest_of_start(**source, (*source)->size(), DigestKind::Sha256, context_);
    if (!found && is_of_this_run(found.error().code)) return fail(found.error());
    if (!found || hex(*found) != named.sha256)
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

Result<KitState> check_files(const fs::path& folder, const std::vector<KitFile>& named,
                             const Context& context) {
  return FilesCheck(folder, context).run(named);
}

}  // namespace wexlo
