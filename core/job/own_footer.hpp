#pragma once
/// What an image's own verified-boot footer says of it.

#include "judge/subject.hpp"

namespace wexlo {

/// How an image's own footer looks at it.
struct OwnFooter {
  bool there = false, reads = true;
  bool is_signed = false;
  bool vouches = false;        ///< for other partitions
  std::optional<bool> digest;  ///< nullopt: it has none that can be checked
  std::string trouble;
};
[[nodiscard]] OwnFooter own_footer(const Subject& one);

}  // namespace wexlo
