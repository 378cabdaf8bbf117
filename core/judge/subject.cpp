#include "judge/subject.hpp"

#include <algorithm>
#include <array>

namespace wexlo {

std::string Subject::build_property(std::string_view what) const {
  const std::string key = "com.android.build." + partition + "." + std::string(what);
  const auto at = std::ranges::find(properties, key, [](const auto& one) { return one.first; });
  return at == properties.end() ? "" : at->second;
}

const Subject* Subjects::find(std::string_view partition) const {
  const auto at = std::ranges::find(all, partition, &Subject::partition);
  return at == all.end() ? nullptr : &*at;
}

Subjects overlay(const Subjects& given, const Subjects& stock) {
  Subjects out = given;
  for (const Subject& one : stock.all)
    if (out.find(one.partition) == nullptr) out.all.push_back(one);
  return out;
}

}  // namespace wexlo
