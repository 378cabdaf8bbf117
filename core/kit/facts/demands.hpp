#pragma once
/// What a package itself wants of the phone it is written to: the lines of its info text and the
/// preconditions of over-the-air metadata.

#include <optional>
#include <string>
#include <vector>

#include "base/error.hpp"

namespace wexlo {

struct Demand {
  enum class Kind { Require, Reject, PartitionExists };
  Kind kind = Kind::Require;
  std::string name;                 ///< variable: "board", "version-baseband", …; or a partition
  std::vector<std::string> values;  ///< any of them will do; a `*` at the end: begins with
  std::string only_for;             ///< product that it is for; empty: any
  std::string line;                 ///< as the package has it
};

/// nullopt: no line of that kind.
[[nodiscard]] std::optional<Demand> parse_demand(std::string_view line);

/// Whether a value is one of those wanted.
[[nodiscard]] bool suits(const std::vector<std::string>& wanted, std::string_view value);

/// Alternatives parted by `|` or `,`, as packages name their devices.
[[nodiscard]] std::vector<std::string> alternatives(std::string_view text);

}  // namespace wexlo
