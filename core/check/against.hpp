#pragma once
/// An image that is handed around, against the stock firmware it is said to be for: is it of that
/// build, what was done to it, and is there anything in it that the stock image does not explain?

#include "compare/compare.hpp"
#include "judge/subject.hpp"

namespace wexlo {

/// Whether an image is of the firmware's build.
enum class SameBuild : std::uint8_t { Same, Other, Unknown };
/// As JSON has it.
[[nodiscard]] std::string_view build_name(SameBuild build);

/// What an image is, seen from the stock one.
enum class AgainstVerdict : std::uint8_t {
  Stock,        ///< byte for byte
  SameContent,  ///< only packed, padded or signed differently
  Journaled,    ///< patched by Wexlo
  Flags,        ///< a vbmeta of which nothing but the flags was changed
  Patched,      ///< by another tool
  OtherBuild,
};
/// As JSON has it, e.g. "same-content".
[[nodiscard]] std::string_view against_name(AgainstVerdict verdict);

struct AgainstStock {
  std::string partition;
  SameBuild build = SameBuild::Unknown;
  std::vector<std::string> evidence;  ///< clauses that speak for it
  std::vector<Difference> changes;    ///< what somebody did; what merely follows from it left out
  std::vector<std::string> lowered;   ///< protections, a sentence each
  std::vector<std::string> unexplained;  ///< content that the stock image has nowhere
  AgainstVerdict verdict = AgainstVerdict::Patched;
  std::string sentence;
};

/// Errors: Interrupted. @pre both hold an image that reads
[[nodiscard]] Result<AgainstStock> judge_changed(const Subject& one, const Subject& stock,
                                                 const Context& context);

}  // namespace wexlo
