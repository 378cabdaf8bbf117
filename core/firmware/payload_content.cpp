#include "firmware/payload_content.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <map>

#include "base/source_read.hpp"
#include "payload_manifest.pb.h"
#include "verified/hash_tree.hpp"

namespace wexlo {
namespace {

constexpr std::uint64_t kHashTurn = 16u
                                    << 20;  ///< a worker's share before it goes back to decoding
constexpr std::uint64_t kHashLeast = 4u << 20;
constexpr std::size_t kHashPiece = 1u << 20;

/// The digest of an image whose pieces come in any order: whoever completes a piece of its start
/// takes a turn at it, one at a time.
class GrowingDigest {
 public:
  GrowingDigest(ImageSink& sink, std::uint64_t size) : sink_(sink), size_(size) {}

  Status done(const std::vector<Range>& ranges) {
    std::unique_lock lock(mutex_);
    for (const Range& range : ranges)
      if (range.offset != kNowhere) pieces_[range.offset] = range.offset + range.size;
    for (auto next = pieces_.begin(); next != pieces_.end() && next->first <= ready_;
         next = pieces_.erase(next))
      ready_ = std::max(ready_, next->second);
    ready_ = std::min(ready_, size_);
    if (busy_ || ready_ - hashed_ < kHashLeast) return {};
    busy_ = true;
    const std::uint64_t from = hashed_, to = std::min(ready_, hashed_ + kHashTurn);
    lock.unlock();
    const Status status = count(from, to, {});
    lock.lock();
    busy_ = false;
    hashed_ = to;
    return status;
  }

  Result<std::string> finish(const Context& context) {
    WEXLO_CHECK(count(hashed_, size_, context));
    return hex(hasher_.finish());
  }

 private:
  Status count(std::uint64_t from, std::uint64_t to, const Context& context) {
    Bytes piece(kHashPiece);
    for (std::uint64_t at = from; at < to; at += piece.size()) {
      WEXLO_CHECK(check_stop(context));
      const auto part = MutableView(piece).first(
          static_cast<std::size_t>(std::min<std::uint64_t>(piece.size(), to - at)));
      WEXLO_CHECK(sink_.read_at(at, part));
      hasher_.update(part);
    }
    return {};
  }

  ImageSink& sink_;
  std::uint64_t size_;
  std::mutex mutex_;
  std::map<std::uint64_t, std::uint64_t> pieces_;  ///< behind `ready_`: begin, end
  std::uint64_t ready_ = 0, hashed_ = 0;
  bool busy_ = false;
  Hasher hasher_{DigestKind::Sha256};
};

class PayloadContent final : public Content {
 public:
  PayloadContent(std::shared_ptr<const PayloadData> data, const manifest::PartitionUpdate& update)
      : data_(std::move(data)), update_(update) {}

  bool parallel() const override { return true; }
  Result<Bytes> head(std::size_t count) const override;
  Result<SourcePtr> source(const Context& context) const override {
    return spill(*this, size(), data_->source->name() + "!" + update_.name(), context);
  }
  Result<Verified> read(ImageSink& sink, const ReadOptions& options,
                        const Context& context) const override;

 private:
  std::uint64_t size() const { return update_.new_info().size(); }
  std::uint64_t block() const { return data_->manifest->block_size(); }
  template <class Extents>
  Result<std::vector<Range>> ranges_of(const Extents& extents, std::uint64_t blocks,
                                       const char* what) const;
  Result<std::vector<Range>> destinations(const manifest::Operation& operation) const {
    return ranges_of(operation.dst_extents(), align_up(size(), block()) / block(), "destination");
  }
  bool full() const {
    return std::ranges::all_of(update_.operations(),
                               [](const auto& one) { return is_full_kind(one.type()); });
  }
  std::uint64_t stored_size() const {
    std::uint64_t total = 0;
    for (const auto& operation : update_.operations())
      total += operation.data_length();
    return total;
  }
  Status check_kinds() const;
  Status check_coverage() const;
  Result<OperationPlace> place(MemoryGate& gate, const Context& context) const;
  Status check_base(const Source& old, const Context& context) const;
  Status run_all(const OperationPlace& place, ImageSink& sink, GrowingDigest* digest,
                 const Context& context) const;
  Status generate(ImageSink& sink, const Context& context) const;
  Status generate_fec(ImageSink& sink, const Context& context) const;
  Result<Range> generated(const manifest::Extent& extent, const char* what) const;
  Error locate(Error error, int index) const;
  Error located(Error error) const {
    if (error.file.empty()) error.file = data_->source->name();
    return error;
  }

  std::shared_ptr<const PayloadData> data_;
  const manifest::PartitionUpdate& update_;
};

template <class Extents>
Result<std::vector<Range>> PayloadContent::ranges_of(const Extents& extents, std::uint64_t blocks,
                                                     const char* what) const {
  std::vector<Range> ranges;
  for (const auto& extent : extents) {
    const std::uint64_t start = extent.start_block(), count = extent.num_blocks();
    if (start == kNowhere && count <= blocks) {
      ranges.push_back({kNowhere, count * block()});
      continue;
    }
    if (start > blocks || count > blocks - start)
      return fail({.code = ErrorCode::OutOfRange,
                   .message = fmt::format("a {} lies outside the partition", what),
                   .expected = fmt::format("blocks below {}", blocks),
                   .found = fmt::format("{} blocks from {}", count, start)});
    ranges.push_back({start * block(), count * block()});
  }
  return ranges;
}

Error PayloadContent::locate(Error error, int index) const {
  const auto& operation = update_.operations(index);
  error.message = fmt::format("operation {} ({}) of partition {}: {}", index,
                              operation_name(operation.type()), update_.name(), error.message);
  if (error.file.empty()) {
    error.file = data_->source->name();
    error.offset = data_->data_at + operation.data_offset();
  }
  return error;
}

/// What cannot be done is said before anything is.
Status PayloadContent::check_kinds() const {
  for (int i = 0; i < update_.operations_size(); ++i) {
    auto possible = check_kind(update_.operations(i).type(), data_->base != nullptr);
    if (!possible) return fail(locate(std::move(possible).error(), i));
  }
  return {};
}

/// Every block exactly once: what makes it safe to run the operations in parallel, and keeps a
/// claimed size from being taken for content. The hash tree and its codes are nobody's.
Status PayloadContent::check_coverage() const {
  std::vector<Range> all;
  for (int i = 0; i < update_.operations_size(); ++i) {
    auto ranges = destinations(update_.operations(i));
    if (!ranges) return fail(locate(std::move(ranges).error(), i));
    all.insert(all.end(), ranges->begin(), ranges->end());
  }
  for (const auto* extent : {update_.has_hash_tree_extent() ? &update_.hash_tree_extent() : nullptr,
                             update_.has_fec_extent() ? &update_.fec_extent() : nullptr}) {
    if (extent == nullptr) continue;
    WEXLO_TRY(const Range range, generated(*extent, "generated extent"));
    all.push_back(range);
  }
  std::ranges::sort(all, {}, &Range::offset);
  // An incremental package may leave out what it does not care for: its digest decides then.
  const bool gaps = !full() && !update_.new_info().hash().empty();
  std::uint64_t end = 0;
  for (const Range& range : all) {
    if (range.size == 0 || range.offset == kNowhere) continue;
    if (range.offset < end || (range.offset > end && !gaps))
      return fail(located(
          {.code = ErrorCode::BadValue,
           .message = fmt::format("the operations of partition {} {} block {}", update_.name(),
                                  range.offset < end ? "write twice to" : "leave out",
                                  std::min(range.offset, end) / block()),
           .hint = "Fetch the package again; compare its digest with the source's."}));
    end = range.offset + range.size;
  }
  if (end >= size() || gaps) return {};
  return fail(located(
      {.code = ErrorCode::BadValue,
       .message = fmt::format("the operations of partition {} do not fill it", update_.name()),
       .expected = fmt::format("{} bytes", size()),
       .found = fmt::format("{} bytes", end)}));
}

Result<OperationPlace> PayloadContent::place(MemoryGate& gate, const Context& context) const {
  OperationPlace out{
      .source = *data_->source, .data_at = data_->data_at, .image_size = size(), .gate = &gate};
  if (!data_->base_build.empty()) out.base = fmt::format("It has to be {}.", data_->base_build);
  if (full() || !data_->base) return out;
  auto old = data_->base->image(update_.name(), context);
  if (!old) {
    Error error = std::move(old).error();
    error.hint += (error.hint.empty() ? "" : " ") + out.base;
    return fail(std::move(error));
  }
  out.old = std::move(*old);
  WEXLO_CHECK(check_base(*out.old, context));
  return out;
}

/// The whole old image, where the manifest says what it has to be: a wrong base is told as such,
/// before an operation stumbles over it.
Status PayloadContent::check_base(const Source& old, const Context& context) const {
  const auto& info = update_.old_info();
  if (info.hash().empty()) return {};
  Error wrong{.code = ErrorCode::DigestMismatch,
              .message = fmt::format("the base's {} is not the one that this package starts from",
                                     update_.name()),
              .file = old.name(),
              .expected = hex(as_view(info.hash())),
              .hint = "The base is of another build, or was changed."};
  if (!data_->base_build.empty()) wrong.hint += fmt::format(" It has to be {}.", data_->base_build);
  if (old.size() < info.size()) {
    wrong.expected = fmt::format("{} bytes", info.size());
    wrong.found = fmt::format("{} bytes", old.size());
    return fail(std::move(wrong));
  }
  WEXLO_TRY(const Bytes found, digest_of_start(old, info.size(), DigestKind::Sha256, context));
  wrong.found = hex(found);
  return wrong.found == wrong.expected ? Status() : fail(std::move(wrong));
}

Result<Bytes> PayloadContent::head(std::size_t count) const {
  count = static_cast<std::size_t>(std::min<std::uint64_t>(count, size()));
  for (const auto& operation : update_.operations())
    for (const auto& extent : operation.dst_extents()) {
      if (extent.start_block() != 0 || &extent != &operation.dst_extents(0)) continue;
      if (operation.data_offset() > data_->source->size()) return Bytes();
      const std::uint64_t first = extent.num_blocks() * block();
      return operation_head({.source = *data_->source, .data_at = data_->data_at}, operation,
                            static_cast<std::size_t>(std::min<std::uint64_t>(count, first)));
    }
  return Bytes();
}

Status PayloadContent::run_all(const OperationPlace& place, ImageSink& sink, GrowingDigest* digest,
                               const Context& context) const {
  const std::uint64_t total = stored_size();
  const std::uint64_t old_blocks = place.old ? align_up(place.old->size(), block()) / block() : 0;
  std::atomic<std::uint64_t> done = 0;
  TaskGroup tasks(context);
  for (int i = 0; i < update_.operations_size(); ++i) {
    tasks.submit(kOperationCost, [&, i]() -> Status {
      const auto& operation = update_.operations(i);
      const auto run = [&]() -> Status {
        WEXLO_TRY(auto to, destinations(operation));
        WEXLO_TRY(auto from, ranges_of(operation.src_extents(), old_blocks, "source"));
        WEXLO_CHECK(run_operation(place, operation, std::move(from), to, sink, context));
        return digest != nullptr ? digest->done(to) : Status();
      };
      if (auto ran = run(); !ran) return fail(locate(std::move(ran).error(), i));
      if (context.progress) context.progress(done += operation.data_length(), total);
      return {};
    });
  }
  return tasks.wait();
}

/// A place that the phone fills by itself.
Result<Range> PayloadContent::generated(const manifest::Extent& extent, const char* what) const {
  const manifest::Extent extents[] = {extent};
  auto ranges = ranges_of(extents, align_up(size(), block()) / block(), what);
  if (!ranges || ranges->front().offset == kNowhere)
    return fail(located(
        {.code = ErrorCode::OutOfRange,
         .message = fmt::format("the {} of partition {} lies outside it", what, update_.name())}));
  return ranges->front();
}

/// The hash tree, then the codes over image and tree.
Status PayloadContent::generate(ImageSink& sink, const Context& context) const {
  if (update_.has_hash_tree_extent() && update_.hash_tree_extent().num_blocks() > 0) {
    WEXLO_TRY(const Range from, generated(update_.hash_tree_data_extent(), "hash tree's data"));
    WEXLO_TRY(const Range to, generated(update_.hash_tree_extent(), "hash tree"));
    const auto kind = verified::hash_algorithm(update_.hash_tree_algorithm());
    if (!kind)
      return fail(
          located({.code = ErrorCode::Unsupported,
                   .message = fmt::format("partition {} needs a hash tree of a kind that is "
                                          "not known",
                                          update_.name()),
                   .expected = "sha1, sha256 or sha512",
                   .found = update_.hash_tree_algorithm()}));
    const std::uint64_t wanted = verified::hash_tree_size(from.size, *kind);
    if (block() != verified::kHashBlock || wanted > to.size)
      return fail(located({.code = ErrorCode::BadValue,
                           .message = fmt::format("the hash tree of partition {} has not the room "
                                                  "it takes",
                                                  update_.name()),
                           .expected = fmt::format("{} bytes", wanted),
                           .found = fmt::format("{} bytes", to.size)}));
    const verified::ReadData read = [&](std::uint64_t at, MutableView out) {
      return sink.read_at(from.offset + at, out);
    };
    WEXLO_TRY(const auto tree,
              verified::build_hash_tree(read, from.size, *kind, as_view(update_.hash_tree_salt()),
                                        context));
    WEXLO_CHECK(sink.write_at(to.offset, tree.tree));
  }
  return generate_fec(sink, context);
}

Status PayloadContent::generate_fec(ImageSink& sink, const Context& context) const {
  if (!update_.has_fec_extent() || update_.fec_extent().num_blocks() == 0) return {};
  WEXLO_TRY(const Range from, generated(update_.fec_data_extent(), "error correction's data"));
  WEXLO_TRY(const Range to, generated(update_.fec_extent(), "error correction"));
  const std::uint32_t roots = update_.fec_roots();
  if (roots < 2 || roots > 24 || verified::fec_size(from.size, roots) > to.size)
    return fail(located({.code = ErrorCode::BadValue,
                         .message = fmt::format("the error correction of partition {} has not the "
                                                "room it takes",
                                                update_.name()),
                         .expected = "2 to 24 roots, and their codes",
                         .found = fmt::format("{} roots, {} bytes", roots, to.size)}));
  return verified::build_fec(
      [&](std::uint64_t at, MutableView out) { return sink.read_at(from.offset + at, out); },
      from.size, roots,
      [&](std::uint64_t at, View codes) { return sink.write_at(to.offset + at, codes); }, context);
}

Result<Verified> PayloadContent::read(ImageSink& sink, const ReadOptions& options,
                                      const Context& context) const {
  WEXLO_CHECK(check_kinds());
  WEXLO_CHECK(check_coverage());
  MemoryGate gate(context.memory_bound);
  WEXLO_TRY(const OperationPlace place, this->place(gate, context));
  WEXLO_CHECK(check_image_size(size(), update_.name(), context));
  WEXLO_CHECK(sink.resize(size()));
  const std::string expected = hex(as_view(update_.new_info().hash()));
  const bool counted = options.digest || !expected.empty();
  GrowingDigest digest(sink, size());
  WEXLO_CHECK(run_all(place, sink, counted ? &digest : nullptr, context));
  WEXLO_CHECK(generate(sink, context));
  Verified out;
  if (!counted) return out;
  WEXLO_TRY(out.sha256, digest.finish(context));
  if (!expected.empty() && out.sha256 != expected)
    return fail(located(
        {.code = ErrorCode::DigestMismatch,
         .message = fmt::format("partition {} does not have the promised SHA-256", update_.name()),
         .expected = expected,
         .found = out.sha256,
         .hint = "The package is damaged: fetch it again."}));
  if (!expected.empty()) out.proof = "sha-256";
  return out;
}

}  // namespace

ContentPtr payload_content(std::shared_ptr<const PayloadData> data,
                           const manifest::PartitionUpdate& update) {
  return std::make_shared<PayloadContent>(std::move(data), update);
}

}  // namespace wexlo
