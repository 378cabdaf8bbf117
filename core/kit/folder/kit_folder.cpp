#include "kit/folder/kit_folder.hpp"

#include <fmt/format.h>

#include "base/digest.hpp"
#include "base/source_read.hpp"
#include "firmware/content.hpp"

namespace wexlo {
namespace fs = std::filesystem;

bool is_inside(const fs::path& name) {
  if (name.is_absolute() || name.empty()) return false;
  for (const fs::path& part : name)
    if (part == "..") return false;
  return true;
}

Result<std::set<std::string>> names_below(const fs::path& folder) {
  std::set<std::string> out;
  std::error_code error;
  fs::recursive_directory_iterator at(folder, error);
  for (; !error && at != fs::recursive_directory_iterator(); at.increment(error)) {
    std::error_code ignored;
    if (!at->is_directory(ignored))
      out.insert(at->path().lexically_relative(folder).generic_string());
  }
  if (error) return fail(io_error(error.value(), "cannot read the folder", folder.string()));
  return out;
}

Status KitFolder::make(const std::string& name) const {
  std::error_code error;
  fs::create_directories(folder_ / name, error);
  if (error) return fail(io_error(error.value(), "cannot make the folder", name));
  return {};
}

/// What is on the disk, held against what was given to it.
Status KitFolder::compare(const KitFile& meant) const {
  WEXLO_TRY(const SourcePtr source, open_file(folder_ / meant.file));
  WEXLO_TRY(const Bytes sum,
            digest_of_start(*source, source->size(), DigestKind::Sha256, context_));
  if (hex(sum) != meant.sha256 || source->size() != meant.size)
    return fail({.code = ErrorCode::Io,
                 .message = "what was written does not read back the same",
                 .file = (folder_ / meant.file).string(),
                 .expected = fmt::format("{} bytes, SHA-256 {}", meant.size, meant.sha256),
                 .found = fmt::format("{} bytes, SHA-256 {}", source->size(), hex(sum)),
                 .hint = "The disk may be failing: write to another one."});
  return {};
}

Result<KitFile> KitFolder::read_back(KitFile meant) {
  WEXLO_CHECK(compare(meant));
  meant_[meant.file] = meant;
  return meant;
}

/// The same where the bytes are still held: no digest has to be counted for it.
Status KitFolder::compare(const KitFile& meant, View bytes) const {
  constexpr std::size_t kPiece = 1u << 20;
  WEXLO_TRY(const SourcePtr source, open_file(folder_ / meant.file));
  if (source->size() != bytes.size()) return compare(meant);
  Bytes piece(std::min(kPiece, bytes.size()));
  for (std::size_t at = 0; at < bytes.size(); at += piece.size()) {
    WEXLO_CHECK(check_stop(context_));
    const MutableView part = MutableView(piece).first(std::min(piece.size(), bytes.size() - at));
    WEXLO_CHECK(source->read_at(at, part));
    if (!equal(part, bytes.subspan(at, part.size()))) return compare(meant);
  }
  return {};
}

Result<KitFile> KitFolder::put(const std::string& name, View bytes, std::string sha256) {
  WEXLO_CHECK(check_stop(context_));
  WEXLO_CHECK(write_new(folder_ / name, bytes));
  const KitFile meant{name, bytes.size(), sha256.empty() ? sha256_hex(bytes) : std::move(sha256)};
  WEXLO_CHECK(compare(meant, bytes));
  meant_[name] = meant;
  return meant;
}

Result<KitFile> KitFolder::copy(const std::string& name, const Source& source) {
  WEXLO_TRY(OutputFile file, OutputFile::create(folder_ / name, Overwrite::Refuse));
  const auto sink = file_sink(file);
  WEXLO_CHECK(sink->resize(source.size()));
  WEXLO_TRY(const Verified verified, copy_source(source, {}, *sink, {}, context_));
  WEXLO_CHECK(file.commit(Flush::Leave));
  return read_back({name, source.size(), verified.sha256});
}

Result<KitFile> KitFolder::stream(const std::string& name, const Giver& giver) {
  WEXLO_TRY(OutputFile file, OutputFile::create(folder_ / name, Overwrite::Refuse));
  Hasher hasher(DigestKind::Sha256);
  std::uint64_t at = 0;
  const auto put = [&](View bytes) -> Status {
    WEXLO_CHECK(file.write_at(at, bytes));
    hasher.update(bytes);
    at += bytes.size();
    return {};
  };
  WEXLO_CHECK(giver(put));
  WEXLO_CHECK(file.commit(Flush::Leave));
  return read_back({name, at, hex(hasher.finish())});
}

Status KitFolder::list() const {
  WEXLO_TRY(const auto names, names_below(folder_));
  for (const std::string& name : names)
    if (!meant_.contains(name))
      return fail({.code = ErrorCode::Unexplained,
                   .message = "a file is in the kit that was not written for it",
                   .file = (folder_ / name).string()});
  if (names.size() != meant_.size())
    return fail({.code = ErrorCode::Unexplained,
                 .message = "a file of the kit is gone while it was made",
                 .file = folder_.string(),
                 .expected = fmt::format("{} files", meant_.size()),
                 .found = fmt::format("{} files", names.size())});
  std::string text;
  for (const auto& [name, file] : meant_)
    text += fmt::format("{}  {}\n", file.sha256, name);
  WEXLO_CHECK(write_new(folder_ / kKitDigests, as_view(text)));
  return compare({std::string(kKitDigests), text.size(), sha256_hex(as_view(text))});
}

}  // namespace wexlo
