#pragma once
/// What was written against what a phone gives back.

#include <functional>

#include "base/pool.hpp"
#include "base/source.hpp"
#include "firmware/sparse_write.hpp"

namespace wexlo {

/// A file as it lies in a partition once it was written: a sparse image expanded.
struct WrittenImage {
  SourcePtr image;
  std::vector<ByteRange> given;  ///< what of it is written; the rest stays as it was
  [[nodiscard]] std::uint64_t end() const { return given.empty() ? 0 : given.back().end; }
};
/// Errors: those of opening a sparse image.
[[nodiscard]] Result<WrittenImage> as_written(const SourcePtr& file, const Context& context);

/// Reads a range of the partition into `out`. Errors end the comparing.
using ReadBack = std::function<Status(std::uint64_t offset, MutableView out)>;

/// Whether all that was written is there. @param piece  bytes to read at a time, above 0
[[nodiscard]] Result<bool> is_held(const WrittenImage& written, std::uint64_t piece,
                                   const ReadBack& read, const Context& context);

}  // namespace wexlo
