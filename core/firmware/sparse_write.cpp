#include "firmware/sparse_write.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/output.hpp"
#include "firmware/content.hpp"

namespace wexlo {
namespace {

constexpr std::uint32_t kMagic = 0xED26FF3A;
constexpr std::uint16_t kRaw = 0xCAC1, kFill = 0xCAC2, kSkip = 0xCAC3;
constexpr std::uint64_t kHeader = 28, kChunkHeader = 12, kFillSize = 4;
constexpr std::uint64_t kLeastLimit = 64u << 10;
constexpr std::uint64_t kMaxBlocks = 0xFFFFFFFF;
/// A chunk's total_sz has 32 bits.
constexpr std::uint64_t kMaxRun = (std::uint64_t{1} << 31) / kSparseBlock;

struct Run {
  bool zero = false;
  std::uint64_t first = 0, count = 0;
  [[nodiscard]] std::uint64_t bytes() const {
    return kChunkHeader + (zero ? kFillSize : count * kSparseBlock);
  }
};

std::uint64_t blocks_of(const Source& image) {
  return (image.size() + kSparseBlock - 1) / kSparseBlock;
}

void push(std::vector<Run>& runs, bool zero, std::uint64_t first, std::uint64_t count) {
  if (!runs.empty() && runs.back().zero == zero && runs.back().count + count <= kMaxRun)
    runs.back().count += count;
  else
    runs.push_back({zero, first, count});
}

/// Blocks [first, first + count), in runs of one sort.
Result<std::vector<Run>> runs_of(const Source& image, std::uint64_t first, std::uint64_t count,
                                 const Context& context) {
  std::vector<Run> out;
  constexpr std::uint64_t kStep = 256;  // blocks
  for (std::uint64_t at = first; at < first + count;) {
    WEXLO_CHECK(check_stop(context));
    const std::uint64_t offset = at * kSparseBlock;
    WEXLO_TRY(const Stretch stretch, image.stretch_at(offset));
    const std::uint64_t hole = stretch.hole ? stretch.size / kSparseBlock : 0;
    if (hole > 0) {
      const std::uint64_t take = std::min({hole, first + count - at, kMaxRun});
      push(out, true, at, take);
      at += take;
      continue;
    }
    const std::uint64_t take = std::min(kStep, first + count - at);
    WEXLO_TRY(const Bytes bytes, read_some(image, offset, take * kSparseBlock));
    for (std::uint64_t i = 0; i < take; ++i) {
      const std::size_t from = std::min<std::size_t>(i * kSparseBlock, bytes.size());
      const std::size_t size = std::min<std::size_t>(kSparseBlock, bytes.size() - from);
      push(out, all_zero(View(bytes).subspan(from, size)), at + i, 1);
    }
    at += take;
  }
  return out;
}

}  // namespace

Result<std::vector<SparseCut>> cut_sparse(const Source& image, std::uint64_t limit,
                                          const Context& context) {
  const std::uint64_t blocks = blocks_of(image);
  if (blocks > kMaxBlocks)
    return fail({.code = ErrorCode::LimitExceeded,
                 .message = "too large for a sparse image",
                 .file = image.name()});
  if (limit == 0) return std::vector{SparseCut{0, blocks}};
  if (limit < kLeastLimit)
    return fail({.code = ErrorCode::Usage,
                 .message = "the download limit is too small to be true",
                 .expected = fmt::format("at least {} bytes", kLeastLimit),
                 .found = fmt::format("{}", limit)});
  WEXLO_TRY(const auto runs, runs_of(image, 0, blocks, context));
  // Two chunks that skip what lies around are a part of every piece.
  const std::uint64_t room = limit - kHeader - 2 * kChunkHeader;
  std::vector<SparseCut> out{{0, 0}};
  std::uint64_t used = 0;
  for (Run run : runs) {
    while (run.count > 0) {
      const std::uint64_t left = room - used;
      const std::uint64_t fits = run.zero ? (left >= kChunkHeader + kFillSize ? run.count : 0)
                                 : left <= kChunkHeader
                                     ? 0
                                     : std::min(run.count, (left - kChunkHeader) / kSparseBlock);
      if (fits == 0) {
        out.push_back({run.first, 0});
        used = 0;
        continue;
      }
      out.back().count += fits;
      used += Run{run.zero, run.first, fits}.bytes();
      run.first += fits;
      run.count -= fits;
    }
  }
  return out;
}

Status write_sparse(const Source& image, const SparseCut& cut, const Context& context,
                    const std::function<Status(View)>& out) {
  const std::uint64_t blocks = blocks_of(image), end = cut.first + cut.count;
  WEXLO_TRY(const auto runs, runs_of(image, cut.first, cut.count, context));
  const std::size_t chunks = runs.size() + (cut.first > 0 ? 1 : 0) + (end < blocks ? 1 : 0);
  Bytes header;
  LeWriter writer(header);
  writer.put(kMagic);
  writer.put(std::uint16_t{1});
  writer.put(std::uint16_t{0});
  writer.put(static_cast<std::uint16_t>(kHeader));
  writer.put(static_cast<std::uint16_t>(kChunkHeader));
  writer.put(static_cast<std::uint32_t>(kSparseBlock));
  writer.put(static_cast<std::uint32_t>(blocks));
  writer.put(static_cast<std::uint32_t>(chunks));
  writer.put(std::uint32_t{0});
  WEXLO_CHECK(out(header));
  const auto chunk = [&](std::uint16_t type, std::uint64_t count, std::uint64_t data) {
    Bytes bytes;
    LeWriter fields(bytes);
    fields.put(type);
    fields.put(std::uint16_t{0});
    fields.put(static_cast<std::uint32_t>(count));
    fields.put(static_cast<std::uint32_t>(kChunkHeader + data));
    if (type == kFill) fields.zeros(kFillSize);
    return out(bytes);
  };
  if (cut.first > 0) WEXLO_CHECK(chunk(kSkip, cut.first, 0));
  for (const Run& run : runs) {
    WEXLO_CHECK(
        chunk(run.zero ? kFill : kRaw, run.count, run.zero ? kFillSize : run.count * kSparseBlock));
    constexpr std::uint64_t kStep = 256;
    for (std::uint64_t at = 0; !run.zero && at < run.count; at += kStep) {
      WEXLO_CHECK(check_stop(context));
      const std::uint64_t take = std::min(kStep, run.count - at) * kSparseBlock;
      WEXLO_TRY(Bytes bytes, read_some(image, (run.first + at) * kSparseBlock, take));
      bytes.resize(take);  // the last block may be a short one
      WEXLO_CHECK(out(bytes));
    }
  }
  if (end < blocks) WEXLO_CHECK(chunk(kSkip, blocks - end, 0));
  return {};
}

Status write_sparse_file(const std::filesystem::path& file, const Source& image,
                         const SparseCut& cut, const Context& context) {
  WEXLO_TRY(OutputFile output, OutputFile::create(file, Overwrite::Refuse));
  std::uint64_t at = 0;
  const auto put = [&](View bytes) -> Status {
    WEXLO_CHECK(output.write_at(at, bytes));
    at += bytes.size();
    return {};
  };
  WEXLO_CHECK(write_sparse(image, cut, context, put));
  return output.commit(Flush::Leave);
}

}  // namespace wexlo
