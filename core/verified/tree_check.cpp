#include "verified/tree_check.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <bit>
#include <map>
#include <mutex>
#include <set>

namespace wexlo::verified {
namespace {

/// Bytes that one task hashes: they stay in the cache between being read and being hashed.
constexpr std::uint64_t kChunk = 256u << 10;
constexpr std::uint32_t kMinBlock = 512, kMaxBlock = 1u << 16;
constexpr unsigned kMinRoots = 2, kMaxRoots = 24;

/// One level of what is stored: the data, or a level of the tree.
struct Level {
  std::uint64_t offset = 0, size = 0, block = 0;
  [[nodiscard]] std::uint64_t blocks() const { return (size + block - 1) / block; }
};

/// The data first, the top of the tree last.
std::vector<Level> levels_of(const HashtreeDescriptor& tree, DigestKind kind) {
  std::vector<Level> out{{0, tree.image_size, tree.data_block_size}};
  std::uint64_t end = tree.tree_offset + tree.tree_size;
  for (const std::uint64_t size :
       tree_levels(tree.image_size, kind, tree.data_block_size, tree.hash_block_size)) {
    end -= size;
    out.push_back({end, size, tree.hash_block_size});
  }
  return out;
}

class Check {
 public:
  Check(const Source& partition, const HashtreeDescriptor& tree, DigestKind kind,
        const Context& context)
      : partition_(partition),
        tree_(tree),
        context_(context),
        kind_(kind),
        hasher_(kind, tree.salt),
        levels_(levels_of(tree, kind)) {}

  Result<TreeCheck> run() {
    std::uint64_t total = 0;
    for (const Level& level : levels_)
      total += level.size;
    total_ = total;
    TaskGroup tasks(context_);
    for (std::size_t i = 0; i + 1 < levels_.size(); ++i) {
      const Level& level = levels_[i];
      const std::uint64_t at_once = std::max<std::uint64_t>(1, kChunk / level.block);
      for (std::uint64_t first = 0; first < level.blocks(); first += at_once) {
        const std::uint64_t count = std::min(at_once, level.blocks() - first);
        tasks.submit(count * level.block,
                     [this, i, first, count] { return blocks(i, first, count); });
      }
    }
    WEXLO_CHECK(tasks.wait());
    WEXLO_CHECK(root());
    std::ranges::sort(out_.first, {}, &BadBlock::offset);
    if (out_.first.size() > kShownBad) out_.first.resize(kShownBad);
    return std::move(out_);
  }

 private:
  /// Blocks of a level against the digests that the level above has of them.
  Status blocks(std::size_t index, std::uint64_t first, std::uint64_t count) {
    const Level &level = levels_[index], &above = levels_[index + 1];
    const std::uint64_t room = digest_room(kind_), at = first * level.block;
    const auto size = static_cast<std::size_t>(count * level.block);
    const auto room_for_data = std::make_unique_for_overwrite<std::byte[]>(size);
    const MutableView data(room_for_data.get(), size);
    // What is behind the end of the data counts as zeros.
    const auto there = static_cast<std::size_t>(std::min<std::uint64_t>(size, level.size - at));
    WEXLO_CHECK(partition_.read_at(level.offset + at, data.first(there)));
    std::ranges::fill(data.subspan(there), std::byte{0});
    Bytes stored(static_cast<std::size_t>(count * room));
    WEXLO_CHECK(partition_.read_at(above.offset + first * room, stored));
    Bytes digest(digest_size(kind_));
    std::vector<BadBlock> bad;
    for (std::uint64_t i = 0; i < count; ++i) {
      hasher_.digest(View(data).subspan(i * level.block, level.block), digest);
      if (equal(digest, View(stored).subspan(i * room, digest.size()))) continue;
      const std::uint64_t offset = level.offset + (first + i) * level.block;
      bad.push_back({static_cast<unsigned>(index),
                     index == 0 ? first + i : (offset - tree_.tree_offset) / level.block, offset});
    }
    return note(bad, there);
  }

  Status note(const std::vector<BadBlock>& bad, std::uint64_t bytes) {
    const std::lock_guard lock(mutex_);
    out_.bad_blocks += bad.size();
    out_.first.insert(out_.first.end(), bad.begin(), bad.end());
    // Kept small, and still the first ones in the end.
    if (out_.first.size() > 4 * kShownBad) {
      std::ranges::nth_element(out_.first, out_.first.begin() + kShownBad, {}, &BadBlock::offset);
      out_.first.resize(kShownBad);
    }
    done_ += bytes;
    if (context_.progress) context_.progress(done_, total_);
    return {};
  }

  Status root() {
    const Level& top = levels_.back();
    Bytes block(static_cast<std::size_t>(top.block));
    const auto there = static_cast<std::size_t>(std::min<std::uint64_t>(top.size, top.block));
    WEXLO_CHECK(partition_.read_at(top.offset, MutableView(block).first(there)));
    Bytes digest(digest_size(kind_));
    hasher_.digest(block, digest);
    out_.root_holds = equal(digest, tree_.root_digest);
    if (out_.root_holds) return {};
    ++out_.bad_blocks;
    out_.first.push_back({static_cast<unsigned>(levels_.size() - 1), 0, top.offset});
    return {};
  }

  const Source& partition_;
  const HashtreeDescriptor& tree_;
  const Context& context_;
  DigestKind kind_;
  SaltedHasher hasher_;
  std::vector<Level> levels_;
  std::mutex mutex_;
  std::uint64_t done_ = 0, total_ = 0;
  TreeCheck out_;
};

Error outside(std::string what, std::uint64_t offset, std::uint64_t size, std::uint64_t room) {
  return {.code = ErrorCode::OutOfRange,
          .message = std::move(what) + " of the hashtree descriptor lies outside the partition",
          .expected = fmt::format("at most {} bytes", room),
          .found = fmt::format("{} bytes from {}", size, offset),
          .hint = "The image is cut short, or not the one that the descriptor is about."};
}

bool inside(std::uint64_t offset, std::uint64_t size, std::uint64_t room) {
  return offset <= room && size <= room - offset;
}

Status check_fec_numbers(const HashtreeDescriptor& tree, std::uint64_t partition_size) {
  const std::uint64_t covered = tree.tree_offset + tree.tree_size;
  if (tree.fec_num_roots < kMinRoots || tree.fec_num_roots > kMaxRoots ||
      tree.data_block_size != kHashBlock || tree.hash_block_size != kHashBlock)
    return fail({.code = ErrorCode::Unsupported,
                 .message = "error correction codes of a form that is not known",
                 .expected = "2 to 24 roots, blocks of 4096 bytes",
                 .found = fmt::format("{} roots, blocks of {} and {}", tree.fec_num_roots,
                                      tree.data_block_size, tree.hash_block_size)});
  if (tree.fec_offset != covered || tree.fec_size != fec_size(covered, tree.fec_num_roots))
    return fail({.code = ErrorCode::BadValue,
                 .message = "place or size of the error correction codes do not fit the tree",
                 .expected = fmt::format("{} bytes from {}", fec_size(covered, tree.fec_num_roots),
                                         covered),
                 .found = fmt::format("{} bytes from {}", tree.fec_size, tree.fec_offset)});
  if (!inside(tree.fec_offset, tree.fec_size, partition_size))
    return fail(outside("the error correction", tree.fec_offset, tree.fec_size, partition_size));
  return {};
}

ReadData reader(const Source& partition) {
  return [&partition](std::uint64_t offset, MutableView out) {
    return partition.read_at(offset, out);
  };
}

}  // namespace

Status check_tree_numbers(const HashtreeDescriptor& tree, std::uint64_t partition_size) {
  const auto kind = hash_algorithm(tree.hash_algorithm);
  const auto usual = [](std::uint32_t block) {
    return block >= kMinBlock && block <= kMaxBlock && std::has_single_bit(block);
  };
  if (!kind || tree.dm_verity_version != 1 || !usual(tree.data_block_size) ||
      !usual(tree.hash_block_size))
    return fail(
        {.code = ErrorCode::Unsupported,
         .message = "a hash tree of a form that is not known",
         .expected = "dm-verity version 1, sha1, sha256 or sha512, blocks of 512 to 65536",
         .found = fmt::format("version {}, {}, blocks of {} and {}", tree.dm_verity_version,
                              tree.hash_algorithm, tree.data_block_size, tree.hash_block_size)});
  if (tree.image_size == 0 || !inside(0, tree.image_size, partition_size))
    return fail(outside("the image", 0, tree.image_size, partition_size));
  if (!inside(tree.tree_offset, tree.tree_size, partition_size))
    return fail(outside("the tree", tree.tree_offset, tree.tree_size, partition_size));
  std::uint64_t needed = 0;
  for (const std::uint64_t level :
       tree_levels(tree.image_size, *kind, tree.data_block_size, tree.hash_block_size))
    needed += level;
  if (tree.tree_size != needed)
    return fail({.code = ErrorCode::BadValue,
                 .message = "the tree's size does not fit the image's",
                 .expected = fmt::format("{} bytes", needed),
                 .found = fmt::format("{} bytes", tree.tree_size)});
  if (tree.root_digest.size() != digest_size(*kind))
    return fail({.code = ErrorCode::BadValue,
                 .message = "the root digest's length does not fit its algorithm",
                 .expected = fmt::format("{} bytes", digest_size(*kind)),
                 .found = fmt::format("{} bytes", tree.root_digest.size())});
  return {};
}

Result<TreeCheck> check_tree(const Source& partition, const HashtreeDescriptor& tree,
                             const Context& context) {
  WEXLO_CHECK(check_tree_numbers(tree, partition.size()));
  return Check(partition, tree, *hash_algorithm(tree.hash_algorithm), context).run();
}

Result<FecCheck> check_fec(const Source& partition, const HashtreeDescriptor& tree,
                           const Context& context) {
  WEXLO_CHECK(check_fec_numbers(tree, partition.size()));
  FecCheck out;
  std::set<std::uint64_t> wrong;  // blocks of the codes
  std::mutex mutex;
  const auto compare = [&](std::uint64_t at, View codes) -> Status {
    Bytes stored(codes.size());
    WEXLO_CHECK(partition.read_at(tree.fec_offset + at, stored));
    if (equal(stored, codes)) return {};
    const std::lock_guard lock(mutex);
    for (std::size_t i = 0; i < codes.size(); ++i)
      if (codes[i] != stored[i]) wrong.insert((at + i) / kHashBlock);
    return {};
  };
  WEXLO_CHECK(build_fec(reader(partition), tree.tree_offset + tree.tree_size, tree.fec_num_roots,
                        compare, context));
  out.wrong_blocks = wrong.size();
  if (!wrong.empty()) out.first = tree.fec_offset + *wrong.begin() * kHashBlock;
  return out;
}

namespace {

/// Gives blocks again that share codewords.
class Repair {
 public:
  Repair(const Source& partition, const HashtreeDescriptor& tree)
      : partition_(partition),
        tree_(tree),
        covered_(tree.tree_offset + tree.tree_size),
        span_(fec_span(covered_, tree.fec_num_roots)) {}

  /// @param places  offsets of bad blocks, all in the same codewords
  Status row(std::uint64_t column, const std::vector<std::uint64_t>& places,
             std::vector<Repaired>& out) const {
    const unsigned roots = tree_.fec_num_roots;
    if (places.size() > roots)
      return fail({.code = ErrorCode::NoMatch,
                   .message = fmt::format("{} bad blocks share one codeword, and {} can be given "
                                          "again",
                                          places.size(), roots),
                   .offset = places.front(),
                   .hint = "Take the image from the firmware again."});
    std::vector<Bytes> data(kCodeword - roots, Bytes(kHashBlock));
    std::vector<std::size_t> erased;
    for (std::size_t j = 0; j < data.size(); ++j) {
      const std::uint64_t at = column + j * span_;
      if (at >= covered_) continue;
      if (std::ranges::find(places, at) != places.end())
        erased.push_back(j);
      else
        WEXLO_CHECK(partition_.read_at(at, data[j]));
    }
    Bytes parity(kHashBlock * roots);
    WEXLO_CHECK(partition_.read_at(tree_.fec_offset + column * roots, parity));
    std::array<std::uint8_t, kCodeword> word{};
    for (std::size_t c = 0; c < kHashBlock; ++c) {
      for (std::size_t j = 0; j < data.size(); ++j)
        word[j] = std::to_integer<std::uint8_t>(data[j][c]);
      for (unsigned r = 0; r < roots; ++r)
        word[data.size() + r] = std::to_integer<std::uint8_t>(parity[c * roots + r]);
      fill_erasures(word, erased);
      for (const std::size_t j : erased)
        data[j][c] = static_cast<std::byte>(word[j]);
    }
    for (const std::size_t j : erased)
      out.push_back({column + j * span_, std::move(data[j])});
    return {};
  }

  [[nodiscard]] std::uint64_t span() const { return span_; }

 private:
  const Source& partition_;
  const HashtreeDescriptor& tree_;
  std::uint64_t covered_, span_;
};

/// A partition with some blocks replaced.
class Overlay final : public Source {
 public:
  Overlay(const Source& below, const std::vector<Repaired>& blocks)
      : Source(below.name()), below_(below), blocks_(blocks) {}
  std::uint64_t size() const override { return below_.size(); }
  Status read_at(std::uint64_t offset, MutableView out) const override {
    WEXLO_CHECK(below_.read_at(offset, out));
    for (const Repaired& one : blocks_) {
      const std::uint64_t begin = std::max(offset, one.offset);
      const std::uint64_t end = std::min(offset + out.size(), one.offset + one.bytes.size());
      if (begin < end)
        std::copy_n(one.bytes.begin() + static_cast<std::ptrdiff_t>(begin - one.offset),
                    end - begin, out.begin() + static_cast<std::ptrdiff_t>(begin - offset));
    }
    return {};
  }

 private:
  const Source& below_;
  const std::vector<Repaired>& blocks_;
};

constexpr unsigned kNoLevel = ~0u;

Error not_given_again(const TreeCheck& bad) {
  return {.code = ErrorCode::NoMatch,
          .message = "the error correction codes do not give the stock blocks again",
          .offset = bad.first.front().offset,
          .found = fmt::format("{} bad blocks", bad.bad_blocks),
          .hint =
              "Codes or root digest are of another build: take the image from the firmware "
              "again."};
}

}  // namespace

Result<std::vector<Repaired>> repair_blocks(const Source& partition, const HashtreeDescriptor& tree,
                                            const TreeCheck& found, const Context& context) {
  WEXLO_CHECK(check_tree_numbers(tree, partition.size()));
  WEXLO_CHECK(check_fec_numbers(tree, partition.size()));
  std::vector<Repaired> out;
  const Overlay repaired(partition, out);
  const Repair repair(repaired, tree);
  // From the top: below a bad block of the tree every digest is in doubt, and the blocks that they
  // are of may be valid.
  TreeCheck bad = found;
  for (unsigned last = kNoLevel; !bad.holds();) {
    const auto& top = std::ranges::max(bad.first, {}, &BadBlock::level);
    if (top.level >= last) return fail(not_given_again(bad));
    last = top.level;
    std::map<std::uint64_t, std::vector<std::uint64_t>> columns;
    std::uint64_t count = 0;
    for (const BadBlock& one : bad.first)
      if (one.level == last) {
        columns[one.offset % repair.span()].push_back(one.offset);
        ++count;
      }
    if (count >= kShownBad) return fail(not_given_again(bad));
    std::vector<Repaired> fresh;
    for (const auto& [column, places] : columns) {
      WEXLO_CHECK(check_stop(context));
      WEXLO_CHECK(repair.row(column, places, fresh));
    }
    std::ranges::move(fresh, std::back_inserter(out));
    WEXLO_TRY(bad, check_tree(repaired, tree, context));
  }
  std::ranges::sort(out, {}, &Repaired::offset);
  return out;
}

}  // namespace wexlo::verified
