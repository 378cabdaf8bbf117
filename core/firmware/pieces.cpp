#include "firmware/pieces.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "firmware/file_names.hpp"
#include "firmware/formats.hpp"
#include "firmware/sparse.hpp"

namespace wexlo {
namespace {

struct PieceFile {
  SourcePtr source;
  unsigned number = 0;
  std::string name;  ///< of the file, for messages
};

/// Takes off what packs a piece. True: what is left is sparse.
Result<bool> take_off(SourcePtr& source, const Opening& opening) {
  for (unsigned depth = 0;; ++depth) {
    WEXLO_CHECK(check_nesting(depth, source->name()));
    WEXLO_TRY(const Bytes start, read_some(*source, 0, kProbeSize));
    if (looks_like_sparse(start)) return true;
    const Format* format = find_format(start);
    if (format == nullptr || format->unwrap == nullptr) return false;
    WEXLO_TRY(source, format->unwrap(source, opening));
  }
}

Status check_numbers(const std::vector<PieceFile>& files, const std::string& name) {
  for (std::size_t i = 1; i < files.size(); ++i) {
    if (files[i].number == files[i - 1].number + 1) continue;
    return fail(
        {.code = ErrorCode::NotFound,
         .message = fmt::format("a piece of {} is missing, or there twice", name),
         .file = files[i].source->name(),
         .expected = fmt::format("number {} after {}", files[i - 1].number + 1, files[i - 1].name),
         .found = files[i].name,
         .hint = "Fetch the package again; all pieces belong into one folder."});
  }
  return {};
}

/// @param sure  their names say that they are pieces
Result<std::optional<JoinedPieces>> join(std::vector<PieceFile> files, bool sure,
                                         const std::string& name, const Opening& opening) {
  JoinedPieces out{.sparse = true};
  for (PieceFile& file : files) {
    WEXLO_TRY(const bool sparse, take_off(file.source, opening));
    out.sparse = out.sparse && sparse;
  }
  // One file of a number is a piece only where both its name and its content say so.
  const bool set = out.sparse ? sure || files.size() > 1 : sure && files.size() > 1;
  if (!set) return std::nullopt;
  WEXLO_CHECK(check_numbers(files, name));
  const std::string shown = files.front().source->name();
  if (out.sparse) {
    std::vector<SourcePtr> sources;
    for (PieceFile& file : files)
      sources.push_back(std::move(file.source));
    WEXLO_TRY(out.source, open_sparse_set(sources, shown, opening.context));
  } else {
    std::vector<Piece> pieces;
    for (const PieceFile& file : files)
      pieces.push_back({file.source, 0, file.source->size()});
    WEXLO_TRY(out.source, open_joined(std::move(pieces), shown));
  }
  return out;
}

}  // namespace

Result<std::optional<JoinedPieces>> join_numbered(std::vector<const Item*> items,
                                                  const std::string& name,
                                                  const ListingIndex& listings,
                                                  const Opening& opening) {
  const auto number = [](const Item* item) { return *read_file_name(item->path).number; };
  std::ranges::sort(items, {}, number);
  std::vector<PieceFile> files;
  std::vector<StoredFile> stored;
  std::uint64_t stored_size = 0;
  for (const Item* item : items) {
    WEXLO_TRY(SourcePtr source, item->open(opening.context));
    if (auto promises = listings.promises_of(*item); !promises.empty())
      stored.push_back({source, std::move(promises)});
    files.push_back({std::move(source), number(item), std::string(base_name(item->path))});
    stored_size += item->stored_size;
  }
  const bool sure = read_file_name(items.front()->path).number_is_sure;
  WEXLO_TRY(auto out, join(std::move(files), sure, name, opening));
  if (out) {
    out->stored = std::move(stored);
    out->stored_size = stored_size;
  }
  return out;
}

}  // namespace wexlo
