#include "verified/hash_tree.hpp"

#include <algorithm>
#include <bit>

namespace wexlo::verified {
namespace {

/// Together 256 KiB: they stay in the cache between being read and being hashed.
constexpr std::uint64_t kBlocksAtOnce = 64;

/// One level: a digest of each block, each with its room.
Status hash_level(const ReadData& read, std::uint64_t size, DigestKind kind, View salt,
                  MutableView out, const Context& context) {
  const std::uint64_t blocks = (size + kHashBlock - 1) / kHashBlock, room = digest_room(kind);
  // The salt's share of the work is done once.
  const SaltedHasher hasher(kind, salt);
  TaskGroup tasks(context);
  for (std::uint64_t first = 0; first < blocks; first += kBlocksAtOnce)
    tasks.submit(kBlocksAtOnce * kHashBlock, [&, first]() -> Status {
      const std::uint64_t count = std::min(kBlocksAtOnce, blocks - first);
      const auto bytes = static_cast<std::size_t>(count * kHashBlock);
      const auto room_for_data = std::make_unique_for_overwrite<std::byte[]>(bytes);
      const MutableView data(room_for_data.get(), bytes);
      const std::uint64_t at = first * kHashBlock;
      // What is behind the end of the data counts as zeros.
      const auto there = static_cast<std::size_t>(std::min<std::uint64_t>(data.size(), size - at));
      WEXLO_CHECK(read(at, data.first(there)));
      std::ranges::fill(data.subspan(there), std::byte{0});
      for (std::uint64_t i = 0; i < count; ++i)
        hasher.digest(View(data).subspan(static_cast<std::size_t>(i * kHashBlock), kHashBlock),
                      out.subspan(static_cast<std::size_t>((first + i) * room)));
      return {};
    });
  return tasks.wait();
}

}  // namespace

std::optional<DigestKind> hash_algorithm(std::string_view name) {
  if (name == "sha1") return DigestKind::Sha1;
  if (name == "sha256") return DigestKind::Sha256;
  if (name == "sha512") return DigestKind::Sha512;
  return std::nullopt;
}

std::uint64_t digest_room(DigestKind kind) {
  return std::bit_ceil(digest_size(kind));
}

std::vector<std::uint64_t> tree_levels(std::uint64_t size, DigestKind kind,
                                       std::uint64_t data_block, std::uint64_t hash_block) {
  std::vector<std::uint64_t> out;
  for (std::uint64_t blocks = (size + data_block - 1) / data_block; blocks > 1;) {
    const std::uint64_t bytes = align_up(blocks * digest_room(kind), hash_block);
    out.push_back(bytes);
    blocks = bytes / hash_block;
  }
  return out;
}

std::uint64_t hash_tree_size(std::uint64_t size, DigestKind kind) {
  std::uint64_t total = 0;
  for (const std::uint64_t level : tree_levels(size, kind))
    total += level;
  return total;
}

Result<HashTree> build_hash_tree(const ReadData& read, std::uint64_t size, DigestKind kind,
                                 View salt, const Context& context) {
  const auto sizes = tree_levels(size, kind);
  HashTree out;
  out.tree.resize(static_cast<std::size_t>(hash_tree_size(size, kind)));
  // The lowest level stands last.
  std::uint64_t at = out.tree.size(), below_at = 0, below_size = size;
  for (std::size_t i = 0; i < sizes.size(); ++i) {
    at -= sizes[i];
    const MutableView level = MutableView(out.tree).subspan(static_cast<std::size_t>(at),
                                                            static_cast<std::size_t>(sizes[i]));
    const ReadData below = [&](std::uint64_t offset, MutableView into) -> Status {
      std::ranges::copy(
          View(out.tree).subspan(static_cast<std::size_t>(below_at + offset), into.size()),
          into.begin());
      return {};
    };
    WEXLO_CHECK(hash_level(i == 0 ? read : below, below_size, kind, salt, level, context));
    below_at = at;
    below_size = sizes[i];
  }
  Bytes top(kHashBlock);
  if (sizes.empty())
    WEXLO_CHECK(
        read(0, MutableView(top).first(static_cast<std::size_t>(std::min(size, kHashBlock)))));
  else
    std::copy_n(out.tree.begin(), kHashBlock, top.begin());
  out.root.resize(digest_size(kind));
  SaltedHasher(kind, salt).digest(top, out.root);
  return out;
}

}  // namespace wexlo::verified
