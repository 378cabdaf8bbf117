#pragma once
/// What an image's own verified-boot footer says of it.

#include "judge/subject.hpp"

namespace wexlo {

/// How an image's own footer looks at it.
struct OwnFooter {
  bool there = false, reads = true;
  bool is_signed = false;
  bool covers = false;         ///< for other partitions
  std::optional<bool> digest;  ///< nullopt: it has none that can be checked
  std::string trouble;
};
[[nodiscard]] OwnFooter own_footer(const Subject& one);

/// The key that the top-level struct of stock firmware is signed with; empty: none.
[[nodiscard]] Bytes top_key(const Subjects& stock);

/// The footer of a partition that is not read whole: a file system with its hash tree.
struct LoneFooter {
  bool there = false;
  FindingCode code = FindingCode::VerifiedStruct;  ///< of the rule that the trouble is about
  std::string trouble;  ///< the first thing that is wrong, a sentence; empty: nothing is
  std::string about;    ///< a clause: what was looked at
};
/// @param trees  false: the struct alone. Errors: those of reading, Interrupted
[[nodiscard]] Result<LoneFooter> lone_footer(const Subject& one, bool trees,
                                             const Context& context);

}  // namespace wexlo
