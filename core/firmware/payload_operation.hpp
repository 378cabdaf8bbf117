#pragma once
/// One operation of a payload: its blob into its destination, for payload.cpp alone.

#include <string>
#include <vector>

#include "firmware/firmware.hpp"

namespace wexlo {
namespace manifest {
class Operation;
}

/// What an operation in flight holds: its pieces, and a decoder's dictionary of the usual size.
inline constexpr std::uint64_t kOperationCost = 10u << 20;

struct Range {
  std::uint64_t offset, size;  ///< bytes of the image
};

/// Where an operation reads from, and the image it belongs to.
struct OperationPlace {
  const Source& source;
  std::uint64_t data_at = 0;     ///< where the blobs begin in the source
  std::uint64_t image_size = 0;  ///< bytes; what lies behind is not stored
};

/// The format's name of a type, for messages: "REPLACE_XZ".
[[nodiscard]] std::string operation_name(std::uint32_t type);
/// It needs no older build.
[[nodiscard]] bool is_full_kind(std::uint32_t type);

/// Streams the blob through digest and decoder into the destinations, in their order.
/// Errors: Unsupported (needs the older build), Truncated, DigestMismatch, Corrupt, OutOfRange
/// (more data than destination), LimitExceeded, Interrupted; no offset, which the caller knows.
[[nodiscard]] Status run_operation(const OperationPlace& place,
                                   const manifest::Operation& operation,
                                   std::vector<Range> destinations, ImageSink& sink,
                                   const Context& context);

}  // namespace wexlo
