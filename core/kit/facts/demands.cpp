#include "kit/facts/demands.hpp"

#include <algorithm>

namespace wexlo {
namespace {

std::vector<std::string> parted(std::string_view text, std::string_view by) {
  std::vector<std::string> out;
  while (!text.empty()) {
    const std::size_t end = std::min(text.find_first_of(by), text.size());
    std::string_view one = text.substr(0, end);
    while (one.starts_with(' '))
      one.remove_prefix(1);
    while (one.ends_with(' ') || one.ends_with('\r'))
      one.remove_suffix(1);
    if (!one.empty()) out.emplace_back(one);
    text.remove_prefix(std::min(end + 1, text.size()));
  }
  return out;
}

}  // namespace

std::vector<std::string> alternatives(std::string_view text) {
  return parted(text, "|,");
}

std::optional<Demand> parse_demand(std::string_view line) {
  Demand out{.line = std::string(line)};
  constexpr std::string_view kFor = "require-for-product:", kRequire = "require ",
                             kReject = "reject ";
  if (line.starts_with(kFor)) {
    line.remove_prefix(kFor.size());
    const std::size_t blank = line.find(' ');
    if (blank == line.npos) return std::nullopt;
    out.only_for = line.substr(0, blank);
    line.remove_prefix(blank + 1);
  } else if (line.starts_with(kRequire)) {
    line.remove_prefix(kRequire.size());
  } else if (line.starts_with(kReject)) {
    line.remove_prefix(kReject.size());
    out.kind = Demand::Kind::Reject;
  } else {
    return std::nullopt;
  }
  const std::size_t equals = line.find('=');
  if (equals == line.npos || equals == 0) return std::nullopt;
  const auto name = parted(line.substr(0, equals), " ");
  if (name.size() != 1) return std::nullopt;
  out.name = name.front();
  out.values = parted(line.substr(equals + 1), "|");
  if (out.values.empty()) return std::nullopt;
  if (out.name == "partition-exists") {
    out.kind = Demand::Kind::PartitionExists;
    out.name = out.values.front();
  }
  return out;
}

bool suits(const std::vector<std::string>& wanted, std::string_view value) {
  return std::ranges::any_of(wanted, [&](std::string_view one) {
    if (one.ends_with('*')) return value.starts_with(one.substr(0, one.size() - 1));
    return value == one;
  });
}

}  // namespace wexlo
