#pragma once
/// One operation of a payload: its blob into its destination, for payload.cpp alone.

#include <condition_variable>
#include <mutex>
#include <string>
#include <vector>

#include "firmware/firmware.hpp"

namespace wexlo {
namespace manifest {
class Operation;
}

/// What an operation in flight holds besides its decoder: its pieces.
inline constexpr std::uint64_t kOperationCost = 1u << 20;

struct Range {
  std::uint64_t offset, size;  ///< bytes of the image; offset kNowhere: writes nowhere, reads as 0
};
inline constexpr std::uint64_t kNowhere = ~std::uint64_t{0};

/// Decoders and patches in flight share a bound: one that is larger than all of it runs alone.
class MemoryGate {
 public:
  explicit MemoryGate(std::uint64_t bound) : bound_(bound) {}
  class Pass {
   public:
    Pass(MemoryGate& gate, std::uint64_t bytes);
    Pass(const Pass&) = delete;
    Pass& operator=(const Pass&) = delete;
    ~Pass();

   private:
    MemoryGate& gate_;
    std::uint64_t bytes_;
  };

 private:
  std::uint64_t bound_, held_ = 0;
  std::mutex mutex_;
  std::condition_variable changed_;
};

/// Where an operation reads from, and the image it belongs to.
struct OperationPlace {
  const Source& source;
  std::uint64_t data_at = 0;     ///< where the blobs begin in the source
  std::uint64_t image_size = 0;  ///< bytes; what lies behind is not stored
  SourcePtr old{};               ///< the older image; nullptr: not given
  std::string base{};            ///< what to call it, and the build that it has to be
  MemoryGate* gate = nullptr;
};

/// The format's name of a type, for messages: "REPLACE_XZ".
[[nodiscard]] std::string operation_name(std::uint32_t type);
/// It needs no older build.
[[nodiscard]] bool is_full_kind(std::uint32_t type);
/// Can it be done at all? @param base  the older build is here. Errors: Unsupported.
[[nodiscard]] Status check_kind(std::uint32_t type, bool base);

/// Streams the blob through digest and decoder into the destinations, in their order; patches are
/// applied to the older image, whose bytes are checked first.
/// Errors: Unsupported (needs the older build; of a kind that is not known), Truncated,
/// DigestMismatch, Corrupt, OutOfRange (more data than destination), LimitExceeded, Interrupted; no
/// offset, which the caller knows.
[[nodiscard]] Status run_operation(const OperationPlace& place,
                                   const manifest::Operation& operation, std::vector<Range> sources,
                                   std::vector<Range> destinations, ImageSink& sink,
                                   const Context& context);

/// The first bytes that a blob gives, reading at most kHeadBudget of it.
[[nodiscard]] Result<Bytes> operation_head(const OperationPlace& place,
                                           const manifest::Operation& operation, std::size_t count);

}  // namespace wexlo
