#pragma once
/// What a phone makes of a kit's images at power-on.

#include "firmware/stock_images.hpp"
#include "kit/facts/chain_facts.hpp"
#include "kit/facts/kit_image.hpp"
#include "kit/facts/ways.hpp"
#include "verified/chain.hpp"

namespace wexlo {

/// Which state a phone has to be in for a kit, and why.
struct KitVerdict {
  Needs needs = Needs::Unknown;
  std::string why;  ///< sentences for people
  verified::Outlook locked = verified::Outlook::CannotTell;
  verified::Outlook unlocked = verified::Outlook::CannotTell;
  std::string key_sha256;  ///< of the key's blob, with Needs::OwnKey; lower-case hex
};

struct JudgedKit {
  KitVerdict verdict;
  std::string stop;     ///< why even an unlocked phone stops; empty: it does not
  verified::Walk walk;  ///< with the kit's images in place
};

/// @param key    a public key blob that the phone trusts; empty: the stock firmware's
/// @param whole  what the firmware lacks is missing, not only left to the phone
[[nodiscard]] Result<JudgedKit> judge_kit(const KitImages& images, StockImages& stock,
                                          const Bytes& key, bool whole, const Context& context);

/// A system that vbmeta does not cover is not mounted while verification is on.
/// @param chain  facts of the firmware's images
[[nodiscard]] Result<std::vector<Finding>> judge_mounts(const KitImages& images,
                                                        const std::vector<ImageFacts>& chain,
                                                        const verified::Walk& walk,
                                                        const Context& context);

}  // namespace wexlo
