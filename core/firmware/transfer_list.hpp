#pragma once
/// Partitions of older over-the-air packages: a list of block ranges, and the data that goes there
/// one after the other. Facts in docs/formats/transfer-list.md.

#include "firmware/opening.hpp"

namespace wexlo {

struct TransferPlan {
  unsigned version = 0;
  std::uint64_t size = 0;                                       ///< bytes of the image
  std::vector<std::pair<std::uint64_t, std::uint64_t>> ranges;  ///< of `new`: begin, end in bytes
  [[nodiscard]] std::uint64_t data_size() const;                ///< bytes that the ranges take
  std::string foreign;  ///< the first command that needs the older build; empty: none
};

/// Errors: BadValue with the line's number, LimitExceeded.
[[nodiscard]] Result<TransferPlan> read_transfer_list(std::string_view text,
                                                      const std::string& name);

/// The image of a plan. @param data  the new data, unpacked. Reading checks that the data is
/// exactly as long as the ranges. Errors of reading: Unsupported (the list needs the older build),
/// Truncated, Corrupt.
[[nodiscard]] ContentPtr transfer_content(TransferPlan plan, SourcePtr data);

}  // namespace wexlo
