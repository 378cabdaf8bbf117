#include "phone/held_back.hpp"

#include <algorithm>

#include "firmware/sparse.hpp"

namespace wexlo {

Result<WrittenImage> as_written(const SourcePtr& file, const Context& context) {
  WEXLO_TRY(const Bytes head, read_some(*file, 0, kSparseHeader));
  if (!looks_like_sparse(head)) {
    WrittenImage out{file, {}};
    if (file->size() > 0) out.given = {{0, file->size()}};
    return out;
  }
  WEXLO_TRY(SourcePtr image, open_sparse(file, {.context = context}));
  WEXLO_TRY(std::vector<ByteRange> given, given_ranges(*image));
  return WrittenImage{std::move(image), std::move(given)};
}

Result<bool> is_held(const WrittenImage& written, std::uint64_t piece, const ReadBack& read,
                     const Context& context) {
  Bytes wanted, found;
  for (const ByteRange& range : written.given)
    for (std::uint64_t at = range.begin; at < range.end; at += piece) {
      WEXLO_CHECK(check_stop(context));
      const auto size = static_cast<std::size_t>(std::min(piece, range.end - at));
      wanted.resize(size);
      found.resize(size);
      WEXLO_CHECK(written.image->read_at(at, wanted));
      WEXLO_CHECK(read(at, found));
      if (!equal(wanted, found)) return false;
    }
  return true;
}

}  // namespace wexlo
