#include "kit/folder/kit.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/contains.hpp"
#include "base/digest.hpp"
#include "base/source_read.hpp"
#include "kit/folder/kit_files.hpp"
#include "kit/folder/kit_folder.hpp"
#include "kit/folder/record.hpp"
#include "kit/plan/plan_toml.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

constexpr std::uint64_t kMaxPlan = 4u << 20;

bool cannot_be_read(const Error& error) {
  return error.code == ErrorCode::NotFound || error.code == ErrorCode::Permission ||
         error.code == ErrorCode::Io;
}

/// Its own digests cover the record, and the report's page has to be of its last entry.
void check_record(const fs::path& folder, KitState& out) {
  const auto record = read_record(folder);
  if (!record) {
    out.findings.push_back(
        usual_finding(FindingCode::RecordChanged,
                      fmt::format("The record does not read: {}.", record.error().message),
                      std::string(kRecordFile)));
    return;
  }
  std::ranges::copy(judge_record(*record), std::back_inserter(out.findings));
  const std::string last = record->entries.empty() ? "" : record->entries.back().sha256;
  if (out.page == last) return;
  // A program that was killed between the two leaves the page behind the record.
  const bool older =
      out.page.empty() || contains(record->entries, out.page, &RecordedEntry::sha256);
  out.findings.push_back(
      {older ? Level::Warning : kind_of(FindingCode::RecordChanged).level,
       FindingCode::RecordChanged,
       older ? "The report's page is older than the record: the next wexlo confirm renews it."
             : "The report's page is not of this record: entries were taken out, or it is of "
               "another copy of the kit.",
       std::string(kReportFile)});
}

}  // namespace

bool is_kit(const fs::path& folder) {
  std::error_code ignored;
  if (fs::exists(folder / kKitManifest, ignored)) return true;
  return fs::exists(folder / kKitDigests, ignored) && fs::is_directory(folder / "flash", ignored);
}

std::string images_of(const std::string& path) {
  return is_kit(path) ? (fs::path(path) / "flash").string() : path;
}

Result<Kit> Kit::open(const fs::path& folder) {
  // What is not there at all is told as such.
  std::error_code unknown;
  if (fs::exists(folder, unknown) && !fs::exists(folder / kKitManifest, unknown))
    return fail({.code = ErrorCode::BadMagic,
                 .message = "this is no kit: it has no kit.json",
                 .file = folder.string(),
                 .hint = "Give the folder that wexlo prepare made."});
  WEXLO_TRY(KitManifest manifest, read_manifest(folder));
  return Kit(folder, std::move(manifest));
}

Result<KitState> Kit::verify(const Context& context) const {
  WEXLO_TRY(KitState out, check_files(folder_, files_of(manifest_), context));
  check_record(folder_, out);
  return out;
}

Result<SourcePtr> Kit::file(const std::string& name) const {
  if (!is_inside(name))
    return fail({.code = ErrorCode::UnsafePath,
                 .message = "a name leads outside of the kit",
                 .file = folder_.string(),
                 .found = name});
  return open_file(folder_ / name);
}

Result<Plan> Kit::plan() const {
  const std::string name =
      manifest_.plan.file.empty() ? std::string(kPlanFile) : manifest_.plan.file;
  WEXLO_TRY(const SourcePtr source, file(name));
  WEXLO_TRY(const Blob text, read_all(*source, kMaxPlan));
  const std::string found = sha256_hex(text.view());
  if (!manifest_.plan.sha256.empty() && found != manifest_.plan.sha256)
    return fail({.code = ErrorCode::DigestMismatch,
                 .message = "the kit's plan was changed",
                 .file = source->name(),
                 .expected = manifest_.plan.sha256,
                 .found = found,
                 .hint = "Make the kit anew."});
  return read_plan(as_text(text.view()), source->name());
}

Result<fs::path> Kit::unchanged(const std::string& name, const Context& context) const {
  const std::vector<KitFile> files = files_of(manifest_);
  const auto at = std::ranges::find(files, name, &KitFile::file);
  WEXLO_TRY(const SourcePtr source, file(name));
  WEXLO_TRY(const Bytes found,
            digest_of_start(*source, source->size(), DigestKind::Sha256, context));
  fs::path path = folder_ / name;
  if (at != files.end() && at->sha256 == hex(found)) return path;
  return fail({.code = ErrorCode::DigestMismatch,
               .message = "the kit was made from this file, and it was changed since",
               .file = path.string(),
               .expected = at == files.end() ? "a file that kit.json names" : at->sha256,
               .found = hex(found),
               .hint = "Take it from a copy of the kit that is whole."});
}

Result<std::optional<Sheet>> Kit::sheet(const Context& context) const {
  const std::string name(kKitSheet);
  if (!contains(manifest_.files, name, &KitFile::file)) return std::nullopt;
  WEXLO_TRY(const fs::path path, unchanged(name, context));
  WEXLO_TRY(Sheet out, read_sheet(path));
  return out;
}

Result<std::vector<Recipe>> Kit::recipes(const Settings& settings) const {
  if (!manifest_.recipes)
    return fail({.code = ErrorCode::Unsupported,
                 .message = "this kit does not say by which recipes it was made",
                 .file = (folder_ / kKitManifest).string(),
                 .hint = "Give the recipes themselves with -r."});
  std::vector<Recipe> out;
  for (const KitRecipe& row : *manifest_.recipes) {
    WEXLO_TRY(Recipe recipe, read_kept_recipe(folder_, row, settings));
    out.push_back(std::move(recipe));
  }
  WEXLO_CHECK(check_settings(out, settings));
  return out;
}

Result<KitState> verify_kit(const fs::path& folder, const Context& context) {
  auto manifest = read_manifest(folder);
  if (manifest) {
    WEXLO_TRY(KitState out, check_files(folder, files_of(*manifest), context));
    check_record(folder, out);
    return out;
  }
  if (!cannot_be_read(manifest.error())) return fail(std::move(manifest).error());
  WEXLO_TRY(KitState out, check_files(folder, {}, context));
  out.findings.insert(out.findings.begin(), {Level::Problem, FindingCode::KitFile,
                                             "The kit's manifest is gone, or cannot be read.",
                                             std::string(kKitManifest)});
  return out;
}

}  // namespace wexlo
