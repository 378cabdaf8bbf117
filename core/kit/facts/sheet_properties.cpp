/// Properties of a running system and variables of a bootloader, as a sheet.

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "firmware/firmware.hpp"
#include "kit/facts/pasted.hpp"
#include "kit/facts/sheet.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

/// What does not suit its key is left out: pasted text is no sheet.
void put(Sheet& out, std::string_view key, std::string value, std::string source) {
  if (!out.facts.contains(key)) out.set(key, std::move(value), std::move(source));
}

struct Sizes {
  std::map<std::string, std::uint64_t> all;
  std::set<std::string> logical;
};

void take_partition(const std::string& name, const std::string& value, Sizes& out) {
  constexpr std::string_view kSize = "partition-size:", kLogical = "is-logical:";
  const std::size_t colon = name.find(':');
  if (colon == name.npos || !check_partition_name(name.substr(colon + 1))) return;
  if (name.starts_with(kLogical) && value == "yes")
    out.logical.insert(name.substr(kLogical.size()));
  if (!name.starts_with(kSize) || value.empty()) return;
  const auto size = parse_hex(value);
  if (size && *size > 0) out.all[name.substr(kSize.size())] = *size;
}

}  // namespace

Sheet sheet_from_properties(std::string_view pasted, const std::string& source) {
  const std::string lines = in_ascii(pasted);
  std::string_view text = lines;
  std::map<std::string, std::string> said;
  Sizes sizes;
  while (!text.empty()) {
    const std::size_t end = std::min(text.find('\n'), text.size());
    auto [name, value] = name_and_value(text.substr(0, end));
    text.remove_prefix(std::min(end + 1, text.size()));
    take_partition(name, value, sizes);
    if (!name.empty()) said.emplace(std::move(name), std::move(value));
  }
  Sheet out;
  std::map<std::size_t, std::pair<std::string, PropertyFact>> ranked;
  for (const auto& [name, value] : said)
    if (auto fact = property_fact(name, value))
      ranked.emplace(fact->rank, std::pair(name, std::move(*fact)));
  for (auto& [rank, one] : ranked)
    put(out, one.second.key, std::move(one.second.value), one.first + " in " + source);
  // A phone with one slot names none.
  if (const auto slot = out.facts.find("state.current_slot"); slot != out.facts.end())
    put(out, "state.slots", "2", slot->second.source);
  for (const auto& [name, size] : sizes.all) {
    if (sizes.logical.contains(name))
      out.logical.push_back({name, size, {}});
    else
      out.partitions.emplace(name, size);
    const auto super = said.find("super-partition-name");
    if (name == (super == said.end() ? "super" : super->second))
      put(out, "super.size", std::to_string(size),
          fmt::format("partition-size:{} in {}", name, source));
  }
  return out;
}

}  // namespace wexlo
