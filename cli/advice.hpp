#pragma once
/// What to do next, where only the program can know: names of files nearby, what a folder is.

#include "base/error.hpp"

namespace wexlo::cli {

/// The error with better advice where there is some: a file that is almost named so, a kit or a
/// parts folder where an image is due, a recipe that lacks its `@`.
[[nodiscard]] Error advised(Error error);

}  // namespace wexlo::cli
