#include "kit/facts/build_order.hpp"

#include <algorithm>

namespace wexlo {

std::string incremental_of(std::string_view fingerprint) {
  const std::size_t colon = fingerprint.find(':');
  if (colon == fingerprint.npos) return {};
  const std::size_t end = fingerprint.find(':', colon + 1);
  const std::string_view version = fingerprint.substr(colon + 1, end - colon - 1);
  const std::size_t slash = version.rfind('/');
  return slash == version.npos ? std::string() : std::string(version.substr(slash + 1));
}

std::optional<int> build_order(const FitFacts& facts, const Sheet& sheet) {
  const std::string& level = sheet.text("build.patch_level");
  if (!facts.patch_level.empty() && !level.empty() && facts.patch_level != level)
    return facts.patch_level < level ? -1 : 1;
  std::string ours = incremental_of(facts.build);
  if (ours.empty()) ours = facts.incremental;
  std::string theirs = incremental_of(sheet.text("build.fingerprint"));
  if (theirs.empty()) theirs = sheet.text("build.incremental");
  const auto digits = [](const std::string& text) {
    return !text.empty() && std::ranges::all_of(text, [](char c) { return c >= '0' && c <= '9'; });
  };
  if (!digits(ours) || !digits(theirs) || ours == theirs) return std::nullopt;
  if (ours.size() != theirs.size()) return std::nullopt;
  return ours < theirs ? -1 : 1;
}

}  // namespace wexlo
