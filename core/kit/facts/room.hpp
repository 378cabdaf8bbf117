#pragma once
/// Room in super for a logical partition that grows: what may be dropped, in which order.

#include "kit/facts/sheet.hpp"

namespace wexlo {

enum class RoomAct { Drop, Resize };
[[nodiscard]] std::string_view room_act_word(RoomAct act);  ///< "drop", "resize"

struct RoomStep {
  RoomAct act = RoomAct::Drop;
  std::string partition;                ///< with its slot
  std::uint64_t before = 0, after = 0;  ///< bytes
  std::string why;                      ///< one sentence
  std::string loss;                     ///< what is lost until it is made again; empty: nothing
  bool leftover = false;                ///< of an update: nothing makes it again
};

struct RoomPlan {
  bool fits = false;
  /// The size of super is not known: the phone refuses the resize if there is too little room.
  bool unknown = false;
  std::uint64_t needed = 0, free = 0;  ///< bytes that are wanted besides, and that are free now
  std::vector<RoomStep> steps;         ///< in order; the last one resizes the partition itself
  std::string why;                     ///< one sentence for people
};

/// What super holds.
struct SuperFacts {
  std::vector<LogicalPartition> partitions;
  std::vector<LogicalGroup> groups;
  std::uint64_t size = 0;  ///< bytes that partitions can take together; 0: not known
  bool slotted = true;
};

/// Bytes that a partition may grow by as things are: of its group, and of super as a whole.
[[nodiscard]] std::uint64_t free_for(const SuperFacts& facts, const std::string& partition);

/// Pure. @param partition  with its slot suffix  @param size  bytes that it has to hold
[[nodiscard]] RoomPlan make_room(const SuperFacts& facts, const std::string& partition,
                                 std::uint64_t size);

/// What super holds once the steps are done.
[[nodiscard]] SuperFacts after_room(SuperFacts facts, const RoomPlan& room);

}  // namespace wexlo
