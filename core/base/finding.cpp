#include "base/finding.hpp"

#include <array>

namespace wexlo {

std::string_view level_name(Level level) {
  constexpr std::array<std::string_view, 3> names{"note", "warning", "problem"};
  return names[static_cast<std::size_t>(level)];
}

const FindingKind& kind_of(FindingCode code) {
  return finding_kinds()[static_cast<std::size_t>(code)];
}

std::vector<const FindingKind*> find_kinds(std::string_view name) {
  std::vector<const FindingKind*> out;
  std::size_t longest = 0;
  for (const FindingKind& one : finding_kinds()) {
    const bool longer = one.named && name.starts_with(one.name) && name.size() > one.name.size() &&
                        name[one.name.size()] == '-';
    if (one.name != name && !longer) continue;
    // "given-build-boot" is about given-build, not about some "given".
    if (one.name.size() < longest) continue;
    if (one.name.size() > longest) out.clear();
    longest = one.name.size();
    out.push_back(&one);
  }
  return out;
}

std::vector<const FindingKind*> kinds_of(FindingArea area) {
  std::vector<const FindingKind*> out;
  for (const FindingKind& one : finding_kinds())
    if (one.area == area) out.push_back(&one);
  return out;
}

std::string FindingId::text() const {
  std::string out(kind_of(code).name);
  if (!about.empty()) out += "-" + about;
  return out;
}

Finding usual_finding(FindingId id, std::string message, std::string where) {
  const Level level = kind_of(id.code).level;
  return {level, std::move(id), std::move(message), std::move(where)};
}

}  // namespace wexlo
