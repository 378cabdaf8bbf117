#pragma once
/// Containers put together by hand: sparse images, super, disk tables, tars.

#include <optional>

#include "support/payload.hpp"

namespace wexlo::test {

struct SparseChunk {
  unsigned type = 0xCAC1;
  std::uint32_t blocks = 0;
  std::string data;                         ///< as it lies in the file
  std::optional<std::uint32_t> total_size;  ///< instead of the true one
};
struct SparseBytes {
  std::uint32_t block = 4096;
  std::vector<SparseChunk> chunks;
  std::optional<std::uint32_t> total_blocks, total_chunks;
  std::uint32_t checksum = 0;
  unsigned major = 1, header = 28, chunk_header = 12;
  SparseBytes& raw(const std::string& data);
  SparseBytes& fill(std::uint32_t blocks, const std::string& word);
  SparseBytes& skip(std::uint32_t blocks);
  SparseBytes& crc(std::uint32_t value, bool counted = true);
  [[nodiscard]] std::string done() const;
};
[[nodiscard]] std::uint32_t crc32_by_hand(const std::string& data);

struct SuperExtent {
  std::uint64_t sectors = 0, at = 0;
  std::uint32_t type = 0, device = 0;
};
struct SuperPartition {
  std::string name;
  std::vector<SuperExtent> extents;
  std::uint32_t attributes = 1;
};
struct SuperBytes {
  std::vector<SuperPartition> partitions;
  std::uint64_t size = 1u << 20;
  unsigned major = 10, minor = 0;
  std::optional<std::uint64_t> group_limit{};  ///< bytes; nullopt: all of super
  std::vector<std::string> devices{"super"};
  std::uint32_t metadata_size = 4096, slots = 2;
  std::string group = "korvale";
  [[nodiscard]] std::string done() const;   ///< the whole image, its data zeros
  [[nodiscard]] std::string empty() const;  ///< tables alone
};

struct GptEntry {
  std::string name;
  std::uint64_t first = 0, last = 0;  ///< sectors, both inside
};
/// A dump of so many sectors with both tables.
[[nodiscard]] std::string gpt_dump(const std::vector<GptEntry>& entries, std::size_t sector,
                                   std::uint64_t sectors);

/// A ustar member: header and padded data.
[[nodiscard]] std::string tar_member(const std::string& name, const std::string& data,
                                     char type = '0');
/// The members and two zero blocks.
[[nodiscard]] std::string tar(const std::vector<Member>& members);

/// A binary patch that adds to the old bytes as far as they go, the rest extra.
/// @param newer  BSDF2 with these compressors (0 none, 1 bzip2) instead of BSDIFF40
[[nodiscard]] std::string bsdiff(const std::string& before, const std::string& after,
                                 std::optional<std::string> newer = std::nullopt);

}  // namespace wexlo::test
