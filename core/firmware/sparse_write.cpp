#include "firmware/sparse_write.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "firmware/content.hpp"
#include "firmware/sparse.hpp"

namespace wexlo {
namespace {

constexpr std::uint16_t kRaw = 0xCAC1, kFill = 0xCAC2, kSkip = 0xCAC3;
constexpr std::uint64_t kFillSize = 4;
constexpr std::uint64_t kLeastLimit = 64u << 10;
constexpr std::uint64_t kMaxBlocks = 0xFFFFFFFF;
/// A chunk's total_sz has 32 bits.
constexpr std::uint64_t kMaxRun = (std::uint64_t{1} << 31) / kSparseBlock;

enum class Sort { Raw, Zero, Skip };

struct Run {
  Sort sort = Sort::Raw;
  std::uint64_t first = 0, count = 0;  ///< blocks
  /// In the file; `first` and `count` may be of a part of it.
  [[nodiscard]] std::uint64_t bytes() const { return kSparseChunk + data(); }
  [[nodiscard]] std::uint64_t data() const {
    return sort == Sort::Raw ? count * kSparseBlock : sort == Sort::Zero ? kFillSize : 0;
  }
};

std::uint64_t blocks_of(const Source& image) {
  return (image.size() + kSparseBlock - 1) / kSparseBlock;
}

void push(std::vector<Run>& runs, Sort sort, std::uint64_t first, std::uint64_t count) {
  if (!runs.empty() && runs.back().sort == sort && runs.back().count + count <= kMaxRun)
    runs.back().count += count;
  else
    runs.push_back({sort, first, count});
}

/// Finds out block by block what there is to give.
class Runs {
 public:
  Runs(const SparseInput& input, const Context& context) : input_(input), context_(context) {}

  /// Blocks [first, first + count), in runs of one sort.
  Result<std::vector<Run>> of(std::uint64_t first, std::uint64_t count) {
    for (std::uint64_t at = first; at < first + count;) {
      WEXLO_CHECK(check_stop(context_));
      WEXLO_TRY(const std::uint64_t taken, step(at, first + count - at));
      at += taken;
    }
    return std::move(out_);
  }

 private:
  /// Blocks from `at` that nobody wants; 0: this one is wanted. `until` becomes where that ends.
  std::uint64_t unwanted(std::uint64_t at, std::uint64_t& until) const {
    if (input_.given.empty()) return 0;
    const std::uint64_t begin = at * kSparseBlock;
    const auto next =
        std::ranges::find_if(input_.given, [&](const ByteRange& one) { return one.end > begin; });
    if (next == input_.given.end()) return until;
    const std::uint64_t from = next->begin / kSparseBlock;
    if (from > at) return std::min(until, from - at);
    until = std::min(until, (next->end + kSparseBlock - 1) / kSparseBlock - at);
    return 0;
  }

  Result<std::uint64_t> step(std::uint64_t at, std::uint64_t left) {
    constexpr std::uint64_t kStep = 256;  // blocks
    if (const std::uint64_t skip = std::min(unwanted(at, left), kMaxRun); skip > 0) {
      push(out_, Sort::Skip, at, skip);
      return skip;
    }
    const std::uint64_t offset = at * kSparseBlock;
    WEXLO_TRY(const Stretch stretch, input_.image.stretch_at(offset));
    const std::uint64_t hole = stretch.hole ? stretch.size / kSparseBlock : 0;
    if (hole > 0) {
      const std::uint64_t take = std::min({hole, left, kMaxRun});
      push(out_, Sort::Zero, at, take);
      return take;
    }
    const std::uint64_t take = std::min(kStep, left);
    WEXLO_TRY(const Bytes bytes, read_some(input_.image, offset, take * kSparseBlock));
    for (std::uint64_t i = 0; i < take; ++i) {
      const std::size_t from = std::min<std::size_t>(i * kSparseBlock, bytes.size());
      const std::size_t size = std::min<std::size_t>(kSparseBlock, bytes.size() - from);
      push(out_, all_zero(View(bytes).subspan(from, size)) ? Sort::Zero : Sort::Raw, at + i, 1);
    }
    return take;
  }

  const SparseInput& input_;
  const Context& context_;
  std::vector<Run> out_;
};

}  // namespace

Result<std::vector<ByteRange>> given_ranges(const Source& image) {
  std::vector<ByteRange> out;
  for (std::uint64_t at = 0; at < image.size();) {
    WEXLO_TRY(const Stretch stretch, image.given_at(at));
    const std::uint64_t end = at + stretch.size;
    if (!stretch.hole && !out.empty() && out.back().end == at)
      out.back().end = end;
    else if (!stretch.hole)
      out.push_back({at, end});
    at = end;
  }
  return out;
}

Result<std::vector<SparseCut>> cut_sparse(const SparseInput& input, std::uint64_t limit,
                                          const Context& context) {
  const std::uint64_t blocks = blocks_of(input.image);
  if (blocks > kMaxBlocks)
    return fail({.code = ErrorCode::LimitExceeded,
                 .message = "too large for a sparse image",
                 .file = input.image.name()});
  if (limit == 0) return std::vector{SparseCut{0, blocks}};
  if (limit < kLeastLimit)
    return fail({.code = ErrorCode::Usage,
                 .message = "the download limit is too small to be right",
                 .expected = fmt::format("at least {} bytes", kLeastLimit),
                 .found = fmt::format("{}", limit)});
  WEXLO_TRY(const auto runs, Runs(input, context).of(0, blocks));
  // Two chunks that skip what lies around are a part of every piece.
  const std::uint64_t room = limit - kSparseHeader - 2 * kSparseChunk;
  std::vector<SparseCut> out{{0, 0}};
  std::uint64_t used = 0;
  for (Run run : runs) {
    while (run.count > 0) {
      const std::uint64_t left = room - used;
      const std::uint64_t fits = run.sort != Sort::Raw ? (left >= run.bytes() ? run.count : 0)
                                 : left <= kSparseChunk
                                     ? 0
                                     : std::min(run.count, (left - kSparseChunk) / kSparseBlock);
      if (fits == 0) {
        out.push_back({run.first, 0});
        used = 0;
        continue;
      }
      out.back().count += fits;
      used += Run{run.sort, run.first, fits}.bytes();
      run.first += fits;
      run.count -= fits;
    }
  }
  return out;
}

Status write_sparse(const SparseInput& input, const SparseCut& cut, const Context& context,
                    const std::function<Status(View)>& out) {
  const std::uint64_t blocks = blocks_of(input.image), end = cut.first + cut.count;
  WEXLO_TRY(const auto runs, Runs(input, context).of(cut.first, cut.count));
  const std::size_t chunks = runs.size() + (cut.first > 0 ? 1 : 0) + (end < blocks ? 1 : 0);
  Bytes header;
  LeWriter writer(header);
  writer.put(kSparseMagic);
  writer.put(std::uint16_t{1});
  writer.put(std::uint16_t{0});
  writer.put(static_cast<std::uint16_t>(kSparseHeader));
  writer.put(static_cast<std::uint16_t>(kSparseChunk));
  writer.put(static_cast<std::uint32_t>(kSparseBlock));
  writer.put(static_cast<std::uint32_t>(blocks));
  writer.put(static_cast<std::uint32_t>(chunks));
  writer.put(std::uint32_t{0});
  WEXLO_CHECK(out(header));
  const auto chunk = [&](const Run& run) {
    Bytes bytes;
    LeWriter fields(bytes);
    fields.put(run.sort == Sort::Raw ? kRaw : run.sort == Sort::Zero ? kFill : kSkip);
    fields.put(std::uint16_t{0});
    fields.put(static_cast<std::uint32_t>(run.count));
    fields.put(static_cast<std::uint32_t>(run.bytes()));
    if (run.sort == Sort::Zero) fields.zeros(kFillSize);
    return out(bytes);
  };
  if (cut.first > 0) WEXLO_CHECK(chunk({Sort::Skip, 0, cut.first}));
  for (const Run& run : runs) {
    WEXLO_CHECK(chunk(run));
    constexpr std::uint64_t kStep = 256;
    for (std::uint64_t at = 0; run.sort == Sort::Raw && at < run.count; at += kStep) {
      WEXLO_CHECK(check_stop(context));
      const std::uint64_t take = std::min(kStep, run.count - at) * kSparseBlock;
      WEXLO_TRY(Bytes bytes, read_some(input.image, (run.first + at) * kSparseBlock, take));
      bytes.resize(take);  // the last block may be a short one
      WEXLO_CHECK(out(bytes));
    }
  }
  if (end < blocks) WEXLO_CHECK(chunk({Sort::Skip, end, blocks - end}));
  return {};
}

Result<SourcePtr> sparse_source(const SparseInput& input, const SparseCut& cut,
                                const std::string& name, const Context& context) {
  WEXLO_TRY(const auto scratch, Scratch::create());
  std::uint64_t at = 0;
  const auto put = [&](View bytes) -> Status {
    WEXLO_CHECK(scratch->write_at(at, bytes));
    at += bytes.size();
    return {};
  };
  WEXLO_CHECK(write_sparse(input, cut, context, put));
  return open_scratch(scratch, at, name);
}

Result<SourcePtr> as_sparse(const SparseInput& input, const std::string& name,
                            const Context& context) {
  WEXLO_TRY(const auto cuts, cut_sparse(input, 0, context));
  return sparse_source(input, cuts.front(), name, context);
}

}  // namespace wexlo
