#pragma once
/// Partitions of a payload, for payload.cpp alone.

#include "firmware/opening.hpp"
#include "firmware/payload_operation.hpp"

namespace wexlo {
namespace manifest {
class Manifest;
class PartitionUpdate;
}  // namespace manifest

/// What all partitions of one payload share.
struct PayloadData {
  SourcePtr source;
  std::shared_ptr<const manifest::Manifest> manifest;
  std::uint64_t data_at = 0;  ///< where the blobs begin
  std::shared_ptr<const BaseImages> base;
  std::string base_build;  ///< fingerprint, where the package says it
};

/// @param update  lives as long as `data`
[[nodiscard]] ContentPtr payload_content(std::shared_ptr<const PayloadData> data,
                                         const manifest::PartitionUpdate& update);

}  // namespace wexlo
