#pragma once
/// What must hold for an image to start: the rules of `check`, the rows of the registry that are of
/// the area Start: docs/checks.md. Rules tell "wrong" from "not known": what cannot be judged from
/// what was given is no finding.

#include <optional>
#include <span>
#include <string>
#include <vector>

#include "base/finding.hpp"

namespace wexlo {

/// Gathers what rules find.
class Report {
 public:
  /// @param level      where it is not the rule's usual one
  /// @param untouched  of a stock image: it starts the phone as it is, so that the finding weighs
  ///                   less
  void add(FindingCode code, const std::string& where, std::string message, bool untouched = false,
           std::optional<Level> level = {});
  /// Something that decides over a start cannot be judged from what is here. @param why  a
  /// clause
  void cannot_tell(std::string why) { unknown_.push_back(std::move(why)); }
  [[nodiscard]] std::vector<Finding> take() { return std::move(findings_); }
  [[nodiscard]] const std::vector<std::string>& unknown() const { return unknown_; }

 private:
  std::vector<Finding> findings_;
  std::vector<std::string> unknown_;
};

}  // namespace wexlo
