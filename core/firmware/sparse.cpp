#include "firmware/sparse.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <mutex>

#include "base/crc.hpp"
#include "base/source_read.hpp"

namespace wexlo {
namespace {

constexpr std::uint16_t kSparseMajor = 1;
constexpr std::uint32_t kMaxBlock = 16u << 20;
constexpr std::uint64_t kMaxUnpacked = std::uint64_t{1} << 44;
enum ChunkType : std::uint16_t { Raw = 0xCAC1, Fill = 0xCAC2, Skip = 0xCAC3, Crc = 0xCAC4 };

struct Chunk {
  std::uint64_t begin = 0, size = 0;  ///< bytes of the expanded image
  std::uint16_t type = Skip;
  std::uint64_t data_at = 0;  ///< of a raw chunk, in the file
  std::uint32_t fill = 0;     ///< the four bytes as they lie in the file
};
/// A sum over all bytes before a place.
struct Sum {
  std::uint64_t before = 0;
  std::uint32_t value = 0;
};

class SparseSource final : public Source {
 public:
  /// @param filled  bytes that fill chunks may give, zeros aside
  SparseSource(SourcePtr source, std::uint64_t filled)
      : Source(source->name()), source_(std::move(source)), most_filled_(filled) {}

  Status open();
  std::uint64_t size() const override { return size_; }
  const void* stream() const override { return source_->stream(); }
  std::string remark() const override { return source_->remark(); }
  std::string own_check() const override { return image_sum_ != 0 ? "crc-32" : ""; }
  std::unique_ptr<Checker> checker() const override;
  Status read_at(std::uint64_t offset, MutableView out) const override;
  Result<Stretch> stretch_at(std::uint64_t offset) const override {
    WEXLO_TRY(const Chunk chunk, chunk_at(offset));
    return Stretch{chunk.begin + chunk.size - offset, zeros(chunk)};
  }
  /// As stretch_at, where only chunks that are not given at all count as holes.
  Result<Stretch> given_at(std::uint64_t offset) const override {
    WEXLO_TRY(const Chunk chunk, chunk_at(offset));
    return Stretch{chunk.begin + chunk.size - offset, chunk.type == Skip};
  }
  std::uint32_t block() const { return block_; }
  /// The sum of that number, if it stands at or before `to` and was read.
  std::optional<Sum> sum_before(std::size_t index, std::uint64_t to) const {
    const std::lock_guard lock(mutex_);
    if (index >= sums_.size() || sums_[index].before > to) return std::nullopt;
    return sums_[index];
  }
  std::uint32_t image_sum() const { return image_sum_; }

 private:
  static bool zeros(const Chunk& chunk) {
    return chunk.type == Skip || (chunk.type == Fill && chunk.fill == 0);
  }
  Result<Chunk> chunk_at(std::uint64_t offset) const;
  Status next_chunk() const;
  Status take_data(Chunk& chunk, std::uint64_t data, std::uint64_t at) const;
  Error bad(std::string message, std::uint64_t at, std::uint64_t expected,
            std::uint64_t found) const {
    return {.code = ErrorCode::Corrupt,
            .message = std::move(message),
            .file = name(),
            .offset = at,
            .expected = fmt::format("{}", expected),
            .found = fmt::format("{}", found),
            .hint = "The image is damaged: fetch it again."};
  }

  SourcePtr source_;
  std::uint32_t block_ = 0, total_chunks_ = 0, image_sum_ = 0;
  std::uint16_t chunk_header_ = 0;
  std::uint64_t size_ = 0;
  mutable std::mutex mutex_;
  mutable std::vector<Chunk> chunks_;  ///< of those read; without empty ones
  mutable std::vector<Sum> sums_;
  mutable std::uint64_t next_at_ = 0, begin_ = 0;  ///< of the next chunk: in the file, in the image
  mutable std::uint32_t read_ = 0;                 ///< chunk headers
  mutable std::uint64_t filled_ = 0;               ///< bytes of fill chunks that are not zeros
  std::uint64_t most_filled_;
};

Status SparseSource::open() {
  WEXLO_TRY(const Bytes raw, read_some(*source_, 0, kSparseHeader));
  LeReader in(raw);
  const auto header = [&]() -> Status {
    WEXLO_CHECK(in.take(4, "magic"));
    WEXLO_TRY(const auto major, in.get<std::uint16_t>("major_version"));
    WEXLO_CHECK(in.take(2, "minor_version"));
    WEXLO_TRY(const auto header_size, in.get<std::uint16_t>("file_hdr_sz"));
    WEXLO_TRY(chunk_header_, in.get<std::uint16_t>("chunk_hdr_sz"));
    WEXLO_TRY(block_, in.get<std::uint32_t>("blk_sz"));
    WEXLO_TRY(const auto blocks, in.get<std::uint32_t>("total_blks"));
    WEXLO_TRY(total_chunks_, in.get<std::uint32_t>("total_chunks"));
    WEXLO_TRY(image_sum_, in.get<std::uint32_t>("image_checksum"));
    if (major != kSparseMajor)
      return fail({.code = ErrorCode::Unsupported,
                   .message = "a sparse image of another major version",
                   .offset = 4,
                   .expected = "1",
                   .found = fmt::format("{}", major)});
    if (header_size < kSparseHeader || chunk_header_ < kSparseChunk)
      return fail({.code = ErrorCode::BadValue,
                   .message = "a header size is too small",
                   .offset = 8,
                   .expected = "28 and 12 at least",
                   .found = fmt::format("{} and {}", header_size, chunk_header_)});
    if (block_ == 0 || block_ % 4 != 0 || block_ > kMaxBlock)
      return fail({.code = ErrorCode::BadValue,
                   .message = "blk_sz is out of range",
                   .offset = 12,
                   .expected = fmt::format("a multiple of 4 up to {}", kMaxBlock),
                   .found = fmt::format("{}", block_)});
    size_ = std::uint64_t{block_} * blocks;
    if (size_ > kMaxUnpacked)
      return fail({.code = ErrorCode::LimitExceeded,
                   .message = "the sparse image claims an impossible size",
                   .offset = 16,
                   .expected = fmt::format("at most {} bytes", kMaxUnpacked),
                   .found = fmt::format("{} bytes", size_)});
    next_at_ = header_size;
    return {};
  };
  if (auto read = header(); !read) return fail(in_file(std::move(read).error(), name()));
  return {};
}

Status SparseSource::take_data(Chunk& chunk, std::uint64_t data, std::uint64_t at) const {
  const auto wanted = [&](std::uint64_t size) -> Status {
    if (data == size) return {};
    return fail(bad("a chunk's total_sz contradicts its type", at + 8, chunk_header_ + size,
                    chunk_header_ + data));
  };
  std::byte word[4];
  switch (chunk.type) {
    case Raw:
      WEXLO_CHECK(wanted(chunk.size));
      chunk.data_at = at + chunk_header_;
      if (chunk.data_at > source_->size() || chunk.size > source_->size() - chunk.data_at)
        return fail(Error{
            .code = ErrorCode::Truncated,
            .message = "a chunk runs past the end of the file",
            .file = name(),
            .offset = at,
            .expected = fmt::format("{} bytes", chunk.size),
            .found =
                fmt::format("{} bytes", source_->size() - std::min(chunk.data_at, source_->size())),
            .hint = "The file may be cut short: compare its size with the source's."});
      return {};
    case Fill:
      WEXLO_CHECK(wanted(4));
      WEXLO_CHECK(source_->read_at(at + chunk_header_, word));
      std::memcpy(&chunk.fill, word, 4);
      return {};
    case Skip: return wanted(0);
    case Crc:
      // Some writers leave the sum itself out of total_sz, and others out of the file.
      if (chunk.size != 0) return fail(bad("a CRC chunk covers blocks", at + 4, 0, chunk.size));
      if (data == 0) return {};
      WEXLO_CHECK(wanted(4));
      WEXLO_CHECK(source_->read_at(at + chunk_header_, word));
      sums_.push_back({begin_, load<std::uint32_t, std::endian::little>(word)});
      return {};
    default:
      return fail(Error{.code = ErrorCode::BadValue,
                        .message = "a chunk of a type that is not known",
                        .file = name(),
                        .offset = at,
                        .expected = "0xcac1 to 0xcac4",
                        .found = hex_value(chunk.type)});
  }
}

Status SparseSource::next_chunk() const {
  if (read_ == total_chunks_)
    return fail(bad("the chunks do not fill the image", next_at_, size_, begin_));
  const std::uint64_t at = next_at_;
  std::byte raw[kSparseChunk];
  WEXLO_CHECK(source_->read_at(at, raw));
  Chunk chunk{.begin = begin_, .type = load<std::uint16_t, std::endian::little>(raw)};
  chunk.size = std::uint64_t{load<std::uint32_t, std::endian::little>(raw + 4)} * block_;
  const auto total = load<std::uint32_t, std::endian::little>(raw + 8);
  if (total < chunk_header_)
    return fail(bad("a chunk's total_sz is smaller than its header", at + 8, chunk_header_, total));
  if (chunk.size > size_ - begin_)
    return fail(bad("a chunk runs past the end of the image", at + 4, size_ - begin_, chunk.size));
  WEXLO_CHECK(take_data(chunk, total - chunk_header_, at));
  if (chunk.type == Fill && chunk.fill != 0) filled_ += chunk.size;
  if (filled_ > most_filled_)
    return fail(Error{.code = ErrorCode::LimitExceeded,
                      .message = "fill chunks give more than any stock image has",
                      .file = name(),
                      .offset = at,
                      .expected = fmt::format("at most {} bytes", most_filled_),
                      .found = fmt::format("{} bytes and more", filled_),
                      .hint = "If that is right, say how large images may be: --limit SIZE."});
  next_at_ += total;
  begin_ += chunk.size;
  ++read_;
  if (chunk.size > 0) chunks_.push_back(chunk);
  return {};
}

Result<Chunk> SparseSource::chunk_at(std::uint64_t offset) const {
  const std::lock_guard lock(mutex_);
  while (begin_ <= offset)
    WEXLO_CHECK(next_chunk());
  // Sums behind the last chunk belong to the image, too; and what is missing is seen.
  while (begin_ == size_ && read_ < total_chunks_)
    WEXLO_CHECK(next_chunk());
  const auto after = std::ranges::upper_bound(chunks_, offset, {}, &Chunk::begin);
  return *(after - 1);
}

Status SparseSource::read_at(std::uint64_t offset, MutableView out) const {
  WEXLO_CHECK(check_range(*this, offset, out.size()));
  while (!out.empty()) {
    WEXLO_TRY(const Chunk chunk, chunk_at(offset));
    const std::uint64_t inside = offset - chunk.begin;
    const auto count =
        static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), chunk.size - inside));
    if (chunk.type == Raw) {
      WEXLO_CHECK(source_->read_at(chunk.data_at + inside, out.first(count)));
    } else if (zeros(chunk)) {
      std::ranges::fill(out.first(count), std::byte{0});
    } else {
      std::byte word[4];
      std::memcpy(word, &chunk.fill, 4);
      for (std::size_t i = 0; i < count; ++i)
        out[i] = word[(inside + i) % 4];
    }
    out = out.subspan(count);
    offset += count;
  }
  return {};
}

/// The sums stand at places that are known only when the reading has come there.
class SparseChecker final : public Checker {
 public:
  explicit SparseChecker(const SparseSource& source) : source_(source) {}
  void data(View bytes) override {
    const std::uint64_t end = at_ + bytes.size();
    while (const auto sum = source_.sum_before(next_, end)) {
      const auto count = static_cast<std::size_t>(sum->before - at_);
      sum_ = crc32_of(bytes.first(count), sum_);
      bytes = bytes.subspan(count);
      compare(*sum);
    }
    sum_ = crc32_of(bytes, sum_);
    at_ = end;
  }
  void zeros(std::uint64_t count) override {
    const std::uint64_t end = at_ + count;
    while (const auto sum = source_.sum_before(next_, end)) {
      sum_ = crc32_zeros(sum->before - at_, sum_);
      compare(*sum);
    }
    sum_ = crc32_zeros(end - at_, sum_);
    at_ = end;
  }
  Status finish() override {
    while (const auto sum = source_.sum_before(next_, at_))
      compare(*sum);
    if (source_.image_sum() != 0) compare({at_, source_.image_sum()});
    if (!wrong_) return {};
    return fail(*wrong_);
  }

 private:
  void compare(const Sum& sum) {
    const std::uint32_t promised = sum.value;
    at_ = sum.before;
    ++next_;
    if (sum_ == promised || wrong_) return;
    wrong_ = Error{.code = ErrorCode::DigestMismatch,
                   .message = fmt::format("the first {} bytes of the expanded image do not have "
                                          "the promised CRC-32",
                                          at_),
                   .file = source_.name(),
                   .expected = fmt::format("{:08x}", promised),
                   .found = fmt::format("{:08x}", sum_),
                   .hint = "The image is damaged: fetch it again."};
  }
  const SparseSource& source_;
  std::uint64_t at_ = 0;
  std::size_t next_ = 0;  ///< of the sums on the way
  std::uint32_t sum_ = 0;
  std::optional<Error> wrong_;
};

std::unique_ptr<Checker> SparseSource::checker() const {
  return std::make_unique<SparseChecker>(*this);
}

/// For each place, the first of the set that gives it.
class SparseSet final : public Source {
 public:
  SparseSet(std::vector<std::shared_ptr<SparseSource>> parts, std::string name)
      : Source(std::move(name)), parts_(std::move(parts)) {}
  std::uint64_t size() const override { return parts_.front()->size(); }
  const void* stream() const override {
    for (const auto& part : parts_)
      if (!part->seekable()) return part->stream();
    return nullptr;
  }
  Result<Stretch> stretch_at(std::uint64_t offset) const override {
    WEXLO_TRY(const Found found, find(offset));
    if (found.part == nullptr) return Stretch{found.size, true};
    WEXLO_TRY(Stretch stretch, found.part->stretch_at(offset));
    stretch.size = std::min(stretch.size, found.size);
    return stretch;
  }
  Status read_at(std::uint64_t offset, MutableView out) const override {
    while (!out.empty()) {
      WEXLO_TRY(const Found found, find(offset));
      const auto count = static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), found.size));
      if (found.part == nullptr)
        std::ranges::fill(out.first(count), std::byte{0});
      else
        WEXLO_CHECK(found.part->read_at(offset, out.first(count)));
      out = out.subspan(count);
      offset += count;
    }
    return {};
  }

 private:
  struct Found {
    const SparseSource* part = nullptr;
    std::uint64_t size = 0;
  };
  Result<Found> find(std::uint64_t offset) const {
    WEXLO_CHECK(check_range(*this, offset, 1));
    std::uint64_t nearest = size() - offset;
    for (const auto& part : parts_) {
      WEXLO_TRY(const Stretch given, part->given_at(offset));
      if (!given.hole) return Found{part.get(), std::min(given.size, nearest)};
      nearest = std::min(nearest, given.size);
    }
    return Found{nullptr, nearest};
  }
  std::vector<std::shared_ptr<SparseSource>> parts_;
};

/// Chunks of a few bytes can fill a disk. Erased flash is the longest run of one word that stock
/// images have.
std::uint64_t most_filled(const Context& context) {
  return std::max<std::uint64_t>(std::uint64_t{1} << 30, context.decode_bound);
}

}  // namespace

bool looks_like_sparse(View start) {
  return start.size() >= 4 &&
         load<std::uint32_t, std::endian::little>(start.data()) == kSparseMagic;
}

Result<SourcePtr> open_sparse(const SourcePtr& source, const Opening& opening) {
  auto sparse = std::make_shared<SparseSource>(source, most_filled(opening.context));
  WEXLO_CHECK(sparse->open());
  return sparse;
}

Result<SourcePtr> open_sparse_set(const std::vector<SourcePtr>& sources, const std::string& name,
                                  const Context& context) {
  std::vector<std::shared_ptr<SparseSource>> parts;
  for (const SourcePtr& source : sources) {
    auto part = std::make_shared<SparseSource>(source, most_filled(context));
    WEXLO_CHECK(part->open());
    if (!parts.empty() && part->size() != parts.front()->size())
      return fail(
          {.code = ErrorCode::BadValue,
           .message = "the pieces are of images of different sizes",
           .file = source->name(),
           .offset = 16,
           .expected = fmt::format("{} bytes, as {}", parts.front()->size(), parts.front()->name()),
           .found = fmt::format("{} bytes", part->size()),
           .hint = "They do not belong together: fetch the package again."});
    parts.push_back(std::move(part));
  }
  return std::make_shared<SparseSet>(std::move(parts), name);
}

}  // namespace wexlo
