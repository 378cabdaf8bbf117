#pragma once
/// The files in a parts folder that people look for first: what starts, mount tables, properties.

#include <filesystem>
#include <string>
#include <vector>

#include "parts/parts.hpp"

namespace wexlo::parts {

enum class LandmarkKind : std::uint8_t { Init, MountTable, Properties, Script };
/// As JSON has it, and for people.
[[nodiscard]] std::string_view landmark_name(LandmarkKind kind);
[[nodiscard]] std::string_view landmark_title(LandmarkKind kind);

struct Landmark {
  LandmarkKind kind;
  std::string file;  ///< below the parts folder
};

/// By kind, then by name; nothing where a tree cannot be walked.
[[nodiscard]] std::vector<Landmark> landmarks(const Unpacked& unpacked,
                                              const std::filesystem::path& folder);

}  // namespace wexlo::parts
