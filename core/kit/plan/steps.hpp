#pragma once
/// The single steps that plans are put together from.

#include "kit/plan/plan.hpp"

namespace wexlo::steps {

/// Seconds that a phone's first start after a wipe takes, and any other.
inline constexpr unsigned kFirstStart = 600, kPlainStart = 120;

[[nodiscard]] Step ready(const PlanFacts& facts, bool back);
[[nodiscard]] Step enter(const PlanFacts& facts, Mode mode);
[[nodiscard]] Step expect(std::string id, std::string variable, std::string value,
                          std::string about);
/// Which phone this is, asked of a person.
[[nodiscard]] Step which_phone(const PlanFacts& facts);
/// Whether the slot that the phone starts from is marked as one that starts.
[[nodiscard]] std::vector<Step> slot_state(const std::string& slot);
[[nodiscard]] Step trial_start(const KitImage& image);
[[nodiscard]] Step cancel_update();
/// Of download mode: what a phone wants after it was unlocked, before it takes changed images.
[[nodiscard]] Step start_online(const PlanFacts& facts);
/// Of download mode: the first start with a vbmeta of other flags.
[[nodiscard]] Step first_reset();
[[nodiscard]] Step no_update_running();
[[nodiscard]] Step anti_rollback(std::uint64_t number);
[[nodiscard]] Step room_for(const KitImage& image, const PlanFacts& facts);
[[nodiscard]] Step unlock(const PlanFacts& facts);
/// One for each piece. @param undo_slot  what the way back calls the slot
[[nodiscard]] std::vector<Step> writes_of(const KitImage& image, SlotRole slot, SlotRole undo_slot,
                                          bool back, const PlanFacts& facts);
/// The slot that the phone does not start from when the steps begin.
[[nodiscard]] Step choose_slot(const PlanFacts& facts, bool back);
[[nodiscard]] std::string other_slot(const std::string& slot);

[[nodiscard]] Step make_room_step(const RoomStep& step, const PlanFacts& facts);
[[nodiscard]] Step unmake_room_step(const RoomStep& step);
/// One for each piece.
[[nodiscard]] std::vector<Step> fill_again(const RoomStep& step, const PlanFacts& facts);

[[nodiscard]] Step install(const PlanFacts& facts);
[[nodiscard]] Step install_update(const PlanFacts& facts);
[[nodiscard]] Step write_package(const PlanFacts& facts);
[[nodiscard]] Step whole_package_back(const PlanFacts& facts);
[[nodiscard]] Step hand_over_package(const PlanFacts& facts);
/// What is in a tar for download mode.
enum class TarUse {
  Images,  ///< the kit's own
  First,   ///< what an installation needs
  Stock,   ///< for the way back
};
[[nodiscard]] Step hand_over_tar(const PlanFacts& facts, const KitFile& tar, TarUse which);

[[nodiscard]] Step wipe(const PlanFacts& facts, bool back);
[[nodiscard]] Step lock_with_key(const PlanFacts& facts);
[[nodiscard]] Step straight_to_recovery(const PlanFacts& facts);
/// @param mode  that the phone is in by then
[[nodiscard]] Step restart(const PlanFacts& facts, std::optional<Mode> mode);
[[nodiscard]] Step after_start(const PlanFacts& facts, bool back);

}  // namespace wexlo::steps
