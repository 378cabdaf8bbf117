#include "image/load_areas.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace wexlo::boot {
namespace {

struct Area {
  std::string_view name;
  std::uint64_t begin = 0, end = 0;
};

std::vector<Area> areas_of(const Image& image) {
  std::vector<Area> out;
  for (const std::string_view name : {"kernel", "ramdisk", "second", "dtb"}) {
    const Section* section = image.section(name);
    const std::string field = std::string(name) + "_addr";
    if (section == nullptr || section->bytes.empty() || image.layout().field(field) == nullptr)
      continue;
    const std::uint64_t begin = image.number(field);
    // Zero is no place: the loader has one of its own.
    if (begin != 0) out.push_back({name, begin, begin + section->bytes.size()});
  }
  return out;
}

}  // namespace

std::vector<std::string> load_overlaps(const Image& image) {
  constexpr unsigned kLast = 2;  // later headers have no addresses
  std::vector<std::string> out;
  if (image.kind() != "boot" || image.layout().version > kLast) return out;
  const std::vector<Area> areas = areas_of(image);
  for (std::size_t i = 0; i < areas.size(); ++i)
    for (std::size_t k = i + 1; k < areas.size(); ++k)
      if (areas[i].begin < areas[k].end && areas[k].begin < areas[i].end)
        out.push_back(fmt::format("{} and {}", areas[i].name, areas[k].name));
  return out;
}

std::vector<std::string> new_load_overlaps(const Image& image, const Image& stock) {
  std::vector<std::string> out = load_overlaps(image);
  const std::vector<std::string> before = load_overlaps(stock);
  std::erase_if(
      out, [&](const std::string& one) { return std::ranges::find(before, one) != before.end(); });
  return out;
}

}  // namespace wexlo::boot
