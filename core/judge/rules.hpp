#pragma once
/// What must hold for an image to start: the rules of `check`, one row each: docs/checks.md. Rules
/// tell "wrong" from "not known": what cannot be told from what is at hand is no finding.

#include <optional>
#include <span>
#include <string>
#include <vector>

#include "judge/finding.hpp"

namespace wexlo {

enum class Level { Note, Warning, Problem };

struct Rule {
  std::string_view code;
  Level level;       ///< usual; on an untouched stock image one weaker
  bool locked_only;  ///< concerns a locked phone alone
  std::string_view about;
};
[[nodiscard]] std::span<const Rule> rules();
[[nodiscard]] const Rule& rule(std::string_view code);  ///< precondition: there is one

/// Gathers what rules find.
class Report {
 public:
  /// @param level      where it is not the rule's usual one
  /// @param untouched  of a stock image: it starts the phone as it is, so that the finding weighs
  ///                   less
  void add(std::string_view code, const std::string& where, std::string message,
           bool untouched = false, std::optional<Level> level = {});
  /// Something that decides over a start cannot be judged from what is at hand. @param why  a
  /// clause
  void cannot_tell(std::string why) { unknown_.push_back(std::move(why)); }
  [[nodiscard]] std::vector<Finding> take() { return std::move(findings_); }
  [[nodiscard]] const std::vector<std::string>& unknown() const { return unknown_; }

 private:
  std::vector<Finding> findings_;
  std::vector<std::string> unknown_;
};
[[nodiscard]] std::string_view level_name(Level level);

}  // namespace wexlo
