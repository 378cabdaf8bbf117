#pragma once
/// Images and older kits that somebody gave along: for a partition that the phone has, of the right
/// kind, of this phone.

#include "firmware/stock_images.hpp"
#include "kit/facts/given.hpp"
#include "kit/facts/shape.hpp"

namespace wexlo {

/// @param super  what super holds  @param sheet  nullptr: none
[[nodiscard]] std::vector<Finding> judge_given(const std::vector<Given>& given,
                                               const StockImages& stock, const SuperFacts& super,
                                               const Sheet* sheet);

/// The older kit's phone and build against the firmware's, before anything is worked out.
/// @param device, build  of the older kit; both empty: there is none
[[nodiscard]] std::vector<Finding> judge_older_phone(const std::string& device,
                                                     const std::string& build,
                                                     const BuildFacts& firmware);

}  // namespace wexlo
