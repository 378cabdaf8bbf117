/// Lists of blocks that are done command by command, as a phone does it in place: those that start
/// from an older build change its image in a temporary file.

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/digest.hpp"
#include "firmware/imgdiff.hpp"
#include "firmware/transfer_list.hpp"
#include "verified/hash_tree.hpp"

namespace wexlo {
namespace {

constexpr std::uint64_t kBlockSize = 4096;
constexpr std::uint64_t kMostGathered = 256u << 20;  ///< bytes of one command
constexpr std::uint64_t kMostStashed = 512u << 20;   ///< bytes, of all that is stashed at a time

std::uint64_t bytes_of(const BlockRanges& ranges) {
  std::uint64_t out = 0;
  for (const auto& [begin, end] : ranges)
    out += (end - begin) * kBlockSize;
  return out;
}

/// The blocks of ranges from an offset on. @param offset, size  bytes, whole blocks
BlockRanges part_of(const BlockRanges& ranges, std::uint64_t offset, std::uint64_t size) {
  BlockRanges out;
  std::uint64_t skip = offset / kBlockSize, left = size / kBlockSize;
  for (const auto& [begin, end] : ranges) {
    const std::uint64_t from = begin + std::min(skip, end - begin);
    skip -= from - begin;
    const std::uint64_t to = from + std::min(left, end - from);
    left -= to - from;
    if (from < to) out.emplace_back(from, to);
  }
  return out;
}

std::string size_text(std::uint64_t bytes) {
  return fmt::format("{} bytes", bytes);
}

/// Changes one image.
class BlockPatcher {
 public:
  BlockPatcher(const TransferPlan& plan, const Source& data, const Source* patches,
               const Scratch& image, std::uint64_t size, const Context& context)
      : plan_(plan),
        data_(data),
        patches_(patches),
        image_(image),
        size_(size),
        context_(context) {}

  Status run() {
    for (const TransferCommand& one : plan_.commands) {
      WEXLO_CHECK(check_stop(context_));
      ++number_;
      WEXLO_CHECK(perform(one));
      if (context_.progress) context_.progress(number_, plan_.commands.size());
    }
    if (read_ == data_.size()) return {};
    return fail(wrong(ErrorCode::Corrupt, "data is left behind the last command", size_text(read_),
                      size_text(data_.size())));
  }

 private:
  Error wrong(ErrorCode code, std::string message, std::string expected, std::string found) const {
    return {.code = code,
            .message = fmt::format("command {}: {}", number_, message),
            .file = data_.name(),
            .expected = std::move(expected),
            .found = std::move(found),
            .hint = plan_.foreign.empty() ? "The package is damaged: fetch it again."
                                          : "Is the base the build that the package starts from?"};
  }

  Status perform(const TransferCommand& one) {
    switch (one.act) {
      case TransferAct::New: return fresh(one);
      case TransferAct::Zero: return zero(one);
      case TransferAct::Move:
      case TransferAct::Patch: return change(one);
      case TransferAct::Stash: return stash(one);
      case TransferAct::HashTree: return hash_tree(one);
      case TransferAct::Free: {
        const auto at = stashed_.find(one.id);
        if (at == stashed_.end()) return {};
        held_ -= at->second.size();
        stashed_.erase(at);
        return {};
      }
    }
    return {};
  }

  Status write(const BlockRanges& target, View bytes) {
    if (bytes_of(target) != bytes.size())
      return fail(wrong(ErrorCode::Corrupt, "it gives more or less than its blocks hold",
                        size_text(bytes_of(target)), size_text(bytes.size())));
    std::size_t at = 0;
    for (const auto& [begin, end] : target) {
      const auto size = static_cast<std::size_t>((end - begin) * kBlockSize);
      WEXLO_CHECK(image_.write_at(begin * kBlockSize, bytes.subspan(at, size)));
      at += size;
    }
    return {};
  }

  Status fresh(const TransferCommand& one) {
    Bytes piece;
    for (const auto& [begin, end] : one.target)
      for (std::uint64_t block = begin; block < end;) {
        const std::uint64_t count = std::min<std::uint64_t>(end - block, 256);
        piece.resize(static_cast<std::size_t>(count * kBlockSize));
        WEXLO_CHECK(data_.read_at(read_, piece));
        WEXLO_CHECK(image_.write_at(block * kBlockSize, piece));
        read_ += piece.size();
        block += count;
      }
    return {};
  }

  Status zero(const TransferCommand& one) {
    const Bytes zeros(256 * kBlockSize);
    for (const auto& [begin, end] : one.target)
      for (std::uint64_t block = begin; block < end;) {
        const std::uint64_t count = std::min<std::uint64_t>(end - block, 256);
        WEXLO_CHECK(image_.write_at(
            block * kBlockSize, View(zeros).first(static_cast<std::size_t>(count * kBlockSize))));
        block += count;
      }
    return {};
  }

  Status read(const BlockRanges& ranges, MutableView out) const {
    std::size_t at = 0;
    for (const auto& [begin, end] : ranges) {
      const auto size = static_cast<std::size_t>((end - begin) * kBlockSize);
      if (end * kBlockSize > size_)
        return fail(wrong(ErrorCode::OutOfRange, "it reads beyond the older image",
                          fmt::format("at most block {}", size_ / kBlockSize),
                          fmt::format("block {}", end)));
      WEXLO_CHECK(image_.read_at(begin * kBlockSize, out.subspan(at, size)));
      at += size;
    }
    return {};
  }

  /// Puts bytes at their places in what is gathered.
  Status scatter(View bytes, const BlockRanges& places, Bytes& into) const {
    if (bytes_of(places) != bytes.size())
      return fail(wrong(ErrorCode::Corrupt, "the places of a source are not as long as it",
                        size_text(bytes.size()), size_text(bytes_of(places))));
    std::size_t at = 0;
    for (const auto& [begin, end] : places) {
      const auto size = static_cast<std::size_t>((end - begin) * kBlockSize);
      if (end * kBlockSize > into.size())
        return fail(wrong(ErrorCode::OutOfRange, "a source is placed beyond its end",
                          size_text(into.size()), fmt::format("block {}", end)));
      std::ranges::copy(bytes.subspan(at, size),
                        into.begin() + static_cast<std::ptrdiff_t>(begin * kBlockSize));
      at += size;
    }
    return {};
  }

  Result<Bytes> gather(const TransferSource& source) const {
    if (source.blocks > kMostGathered / kBlockSize)
      return fail(wrong(ErrorCode::LimitExceeded, "it takes too many blocks at a time",
                        fmt::format("at most {}", kMostGathered / kBlockSize),
                        fmt::format("{}", source.blocks)));
    Bytes out(static_cast<std::size_t>(source.blocks * kBlockSize));
    if (bytes_of(source.ranges) > out.size())
      return fail(wrong(ErrorCode::Corrupt, "its source is longer than it says",
                        size_text(out.size()), size_text(bytes_of(source.ranges))));
    if (!source.ranges.empty()) {
      Bytes part(static_cast<std::size_t>(bytes_of(source.ranges)));
      WEXLO_CHECK(read(source.ranges, part));
      if (source.places.empty())
        std::ranges::copy(part, out.begin());
      else
        WEXLO_CHECK(scatter(part, source.places, out));
    }
    for (const auto& [id, places] : source.stashed) {
      const auto at = stashed_.find(id);
      if (at == stashed_.end())
        return fail(
            wrong(ErrorCode::Corrupt, "it wants what was not stashed", "a stash of that name", id));
      WEXLO_CHECK(scatter(at->second, places, out));
    }
    return out;
  }

  Status check(View bytes, const std::string& wanted, const char* message) const {
    if (wanted.empty()) return {};
    std::string found = hex(digest(DigestKind::Sha1, bytes));
    if (found == wanted) return {};
    return fail(wrong(ErrorCode::DigestMismatch, message, wanted, std::move(found)));
  }

  Status change(const TransferCommand& one) {
    WEXLO_TRY(Bytes source, gather(one.source));
    WEXLO_CHECK(
        check(source, one.old_sha1, "the base's blocks are not those that the list patches"));
    if (one.act == TransferAct::Move) return write(one.target, source);
    if (patches_ == nullptr)
      return fail(wrong(ErrorCode::NotFound, "it patches, and the package has no patches",
                        "NAME.patch.dat beside the list", "no such file"));
    WEXLO_CHECK(check_range(*patches_, one.patch_at, one.patch_size));
    WEXLO_TRY(const Bytes patch, read_some(*patches_, one.patch_at, one.patch_size));
    Bytes out;
    WEXLO_CHECK(
        apply_image_patch(patch, old_bytes(source), bytes_of(one.target), write_behind(out)));
    WEXLO_CHECK(check(out, one.new_sha1, "a patch does not give what the list promises"));
    return write(one.target, out);
  }

  Status stash(const TransferCommand& one) {
    const std::uint64_t size = bytes_of(one.source.ranges);
    if (size > kMostStashed - std::min(held_, kMostStashed))
      return fail(wrong(ErrorCode::LimitExceeded, "the list stashes too much at a time",
                        "at most " + size_text(kMostStashed), size_text(held_ + size)));
    Bytes bytes(static_cast<std::size_t>(size));
    WEXLO_CHECK(read(one.source.ranges, bytes));
    held_ += size;
    stashed_[one.id] = std::move(bytes);
    return {};
  }

  Status hash_tree(const TransferCommand& one) {
    const auto kind = verified::hash_algorithm(one.algorithm);
    if (!kind)
      return fail(wrong(ErrorCode::Unsupported, "its hash tree is by a digest that is not known",
                        "sha1, sha256 or sha512", one.algorithm));
    const std::uint64_t size = bytes_of(one.source.ranges), room = bytes_of(one.target);
    if (verified::hash_tree_size(size, *kind) != room)
      return fail(wrong(ErrorCode::Corrupt, "the hash tree has another size than its blocks",
                        size_text(room), size_text(verified::hash_tree_size(size, *kind))));
    const auto read_covered = [&](std::uint64_t offset, MutableView out) {
      return read(part_of(one.source.ranges, offset, out.size()), out);
    };
    WEXLO_TRY(const auto built,
              verified::build_hash_tree(read_covered, size, *kind, one.salt, context_));
    if (const std::string root = hex(built.root); root != one.root)
      return fail(wrong(ErrorCode::DigestMismatch, "the hash tree has another root than promised",
                        one.root, root));
    return write(one.target, built.tree);
  }

  const TransferPlan& plan_;
  const Source& data_;
  const Source* patches_;
  const Scratch& image_;
  std::uint64_t size_;
  const Context& context_;
  std::size_t number_ = 0;  ///< of the command, from 1
  std::uint64_t read_ = 0;  ///< of the new data
  std::map<std::string, Bytes> stashed_;
  std::uint64_t held_ = 0;
};

class OrderedTransfer final : public Content {
 public:
  OrderedTransfer(TransferPlan plan, SourcePtr data, SourcePtr patches, std::string partition,
                  const Opening& opening)
      : plan_(std::move(plan)),
        data_(std::move(data)),
        patches_(std::move(patches)),
        partition_(std::move(partition)),
        base_(opening.base) {
    if (!plan_.foreign.empty()) return;
    // What a full list writes is there before the tree over it is.
    TransferPlan written = plan_;
    written.commands.clear();
    written_ = transfer_content(std::move(written), data_);
  }

  Result<Bytes> head(std::size_t size) const override {
    return written_ != nullptr ? written_->head(size) : fail(needs_base());
  }
  Result<SourcePtr> source(const Context& context) const override { return made(context); }
  Result<Verified> read(ImageSink& sink, const ReadOptions& options,
                        const Context& context) const override {
    WEXLO_TRY(const SourcePtr image, made(context));
    WEXLO_TRY(Verified out, copy_source(*image, {}, sink, options, context));
    const bool said = std::ranges::any_of(
        plan_.commands, [](const TransferCommand& one) { return !one.new_sha1.empty(); });
    if (said) out.proof = "sha-1 of what is patched";
    return out;
  }

 private:
  Error needs_base() const {
    return {.code = ErrorCode::Unsupported,
            .message = fmt::format("{}: the list patches the older build (\"{}\")", partition_,
                                   plan_.foreign),
            .file = data_->name(),
            .hint = "Give the older build with --base, or take the full package."};
  }

  Result<SourcePtr> made(const Context& context) const {
    SourcePtr before;
    if (!plan_.foreign.empty()) {
      if (base_ == nullptr) return fail(needs_base());
      WEXLO_TRY(before, base_->image(partition_, context));
    }
    const std::uint64_t size =
        before == nullptr ? plan_.size : std::max(plan_.size, before->size());
    WEXLO_CHECK(check_image_size(size, data_->name(), context));
    WEXLO_TRY(auto scratch, Scratch::create());
    if (before != nullptr)
      WEXLO_CHECK(copy_source(*before, {}, *scratch_sink(*scratch), {.digest = false}, context));
    WEXLO_CHECK(scratch->resize(size));  // the new image may be larger
    WEXLO_CHECK(BlockPatcher(plan_, *data_, patches_.get(), *scratch, size, context).run());
    return open_scratch(std::move(scratch), size, data_->name());
  }

  TransferPlan plan_;
  SourcePtr data_, patches_;
  std::string partition_;
  std::shared_ptr<const BaseImages> base_;
  ContentPtr written_;  ///< of a full list: all but its trees; nullptr: it starts from a base
};

}  // namespace

ContentPtr ordered_transfer(TransferPlan plan, SourcePtr data, SourcePtr patches,
                            std::string partition, const Opening& opening) {
  return std::make_shared<OrderedTransfer>(std::move(plan), std::move(data), std::move(patches),
                                           std::move(partition), opening);
}

}  // namespace wexlo
