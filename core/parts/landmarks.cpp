#include "parts/landmarks.hpp"

#include <algorithm>
#include <array>

#include "ramdisk/textfiles.hpp"

namespace wexlo::parts {
namespace fs = std::filesystem;
namespace {

struct KindTexts {
  std::string_view name, title;
};
constexpr std::array<KindTexts, 4> kTexts{{
    {"init", "first program"},
    {"mount-table", "mount table"},
    {"properties", "properties"},
    {"script", "start script"},
}};

/// @param place  in the tree, without a slash in front
std::optional<LandmarkKind> kind_of_place(const std::string& place) {
  const std::string name = fs::path(place).filename().string();
  if (place == "init") return LandmarkKind::Init;
  if (is_fstab_name(place)) return LandmarkKind::MountTable;
  if (name.ends_with(".prop") || name == "prop.default") return LandmarkKind::Properties;
  if (place.find('/') == place.npos && name.starts_with("init.") && name.ends_with(".rc"))
    return LandmarkKind::Script;
  return std::nullopt;
}

}  // namespace

std::string_view landmark_name(LandmarkKind kind) {
  return kTexts[static_cast<std::size_t>(kind)].name;
}

std::string_view landmark_title(LandmarkKind kind) {
  return kTexts[static_cast<std::size_t>(kind)].title;
}

std::vector<Landmark> landmarks(const Unpacked& unpacked, const fs::path& folder) {
  std::vector<Landmark> out;
  for (const PartRow& part : unpacked.parts) {
    if (part.tree.empty()) continue;
    const fs::path tree = folder / part.tree;
    std::error_code error;
    fs::recursive_directory_iterator at(tree, error);
    for (; !error && at != fs::recursive_directory_iterator(); at.increment(error)) {
      const std::string place = at->path().lexically_relative(tree).generic_string();
      if (!at->is_regular_file(error)) continue;
      if (const auto kind = kind_of_place(place)) out.push_back({*kind, part.tree + "/" + place});
    }
  }
  std::ranges::sort(out, [](const Landmark& one, const Landmark& other) {
    return std::pair(one.kind, one.file) < std::pair(other.kind, other.file);
  });
  return out;
}

}  // namespace wexlo::parts
