#pragma once
/// Writers for the containers that the invented phones' firmware comes in.

#include <filesystem>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "demo/payload_writer.hpp"

namespace wexlo::demo {

/// A sparse image of the blocks [first, first + count) of `image`, the others not given: one of a
/// set. Zero blocks become fill chunks, the rest raw ones. Blocks of 4096.
[[nodiscard]] Bytes sparse_piece(View image, std::size_t first, std::size_t count);

/// `NAME.img.part-0`, …: the image in so many sparse pieces.
[[nodiscard]] std::vector<ZipFile> sparse_set(const std::string& name, View image,
                                              std::size_t pieces);

struct LogicalPartition {
  std::string name;
  Bytes image;  ///< empty: no extents
};
/// super with two metadata slots and one group, each partition at a multiple of 1 MiB.
[[nodiscard]] Bytes super_image(const std::vector<LogicalPartition>& partitions, std::size_t size,
                                const std::string& group);

/// A ustar archive with fixed times, and its sum line behind it.
[[nodiscard]] Result<Bytes> tar_with_sum(const std::vector<ZipFile>& files,
                                         const std::string& name);

/// A zip as bytes; its members deflated, but for those that end with `stored`.
[[nodiscard]] Result<Bytes> zip_bytes(const std::vector<ZipFile>& files,
                                      const std::string& stored = "");

}  // namespace wexlo::demo
