#pragma once
/// What was read and judged, as figures.

#include "figure/figures.hpp"
#include "firmware/formats.hpp"
#include "kit/facts/room.hpp"
#include "recipe/patched.hpp"
#include "verified/chain.hpp"

namespace wexlo {

/// The parts of an image file, where they lie: header, sections, padding, struct, footer.
[[nodiscard]] std::vector<figure::Region> regions_of(const LoadedImage& image);

[[nodiscard]] figure::Scene draw_image(const std::string& title, const LoadedImage& image);
[[nodiscard]] figure::Scene draw_changes(const std::string& title, const LoadedImage& before,
                                         const std::string& before_name, const LoadedImage& after,
                                         const std::string& after_name,
                                         const std::vector<ChangedRange>& ranges);
/// The same for two images that nobody has compared yet. Errors: those of compare_images.
[[nodiscard]] Result<figure::Scene> draw_difference(
    const std::string& title, const LoadedImage& before, const std::string& before_name,
    const LoadedImage& after, const std::string& after_name, const Context& context);
/// @param rooms  what a plan does to it; empty: nothing
[[nodiscard]] figure::Scene draw_super(const std::string& title, const SuperFacts& super,
                                       const std::vector<RoomPlan>& rooms);
[[nodiscard]] figure::Scene draw_chain(const std::string& title, const verified::Walk& walk);
/// Precondition: it holds a payload.
[[nodiscard]] figure::Scene draw_payload(const std::string& title, const Firmware& firmware);

}  // namespace wexlo
