#include "job/kit_folder.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/digest.hpp"
#include "base/source_read.hpp"
#include "firmware/content.hpp"

namespace wexlo {
namespace fs = std::filesystem;

Status KitFolder::make(const std::string& name) const {
  std::error_code error;
  fs::create_directories(folder_ / name, error);
  if (error) return fail(io_error(error.value(), "cannot make the folder", name));
  return {};
}

Result<PlanFile> KitFolder::written(const std::string& name) const {
  WEXLO_TRY(const SourcePtr source, open_file(folder_ / name));
  WEXLO_TRY(const Bytes sum,
            digest_of_start(*source, source->size(), DigestKind::Sha256, context_));
  return PlanFile{name, source->size(), hex(sum)};
}

Result<PlanFile> KitFolder::put(const std::string& name, View bytes) const {
  WEXLO_CHECK(check_stop(context_));
  WEXLO_CHECK(write_new(folder_ / name, bytes));
  WEXLO_TRY(PlanFile file, written(name));
  const std::string sha256 = sha256_hex(bytes);
  if (file.sha256 == sha256) return file;
  return fail({.code = ErrorCode::Io,
               .message = "what was written does not read back the same",
               .file = (folder_ / name).string(),
               .expected = sha256,
               .found = file.sha256,
               .hint = "The disk may be failing: write to another one."});
}

Result<PlanFile> KitFolder::copy(const std::string& name, const Source& source) const {
  WEXLO_TRY(OutputFile file, OutputFile::create(folder_ / name, Overwrite::Refuse));
  const auto sink = file_sink(file);
  WEXLO_CHECK(sink->resize(source.size()));
  WEXLO_TRY(const Verified verified, copy_source(source, {}, *sink, {}, context_));
  WEXLO_CHECK(file.commit(Flush::Leave));
  return PlanFile{name, source.size(), verified.sha256};
}

Status KitFolder::list() const {
  std::vector<std::string> names;
  std::error_code error;
  for (const auto& entry : fs::recursive_directory_iterator(folder_, error))
    if (entry.is_regular_file(error))
      names.push_back(entry.path().lexically_relative(folder_).generic_string());
  if (error) return fail(io_error(error.value(), "cannot read the folder", folder_.string()));
  std::ranges::sort(names);
  std::string text;
  for (const std::string& name : names) {
    WEXLO_TRY(const PlanFile file, written(name));
    text += fmt::format("{}  {}\n", file.sha256, name);
  }
  return write_new(folder_ / kKitDigests, as_view(text));
}

}  // namespace wexlo
