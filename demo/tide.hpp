#pragma once
/// `tide`, an invented root package in the form that real ones have: an archive with programs for
/// several processors, a kernel module for each generation, a template, a list, a README; and the
/// recipe that puts it in. Its first program runs: demo/tide/first.c.

#include <string_view>
#include <vector>

#include "base/bytes.hpp"

namespace wexlo::demo {

struct RootPackage {
  Bytes zip;  ///< "tide.zip" beside the recipe
  std::string_view recipe;
  std::vector<std::string_view> processors;  ///< that it has programs for: what could be compiled
};
/// The same bytes in each run. Errors: those of packing.
[[nodiscard]] Result<RootPackage> tide_package();

}  // namespace wexlo::demo
