#include "places.hpp"

#include <cstdlib>

namespace wexlo::test {

const std::string& built_program() {
  static const std::string path = [] {
    const char* const other = std::getenv("TESTED_WEXLO");
    return std::string(other != nullptr ? other : WEXLO_PROGRAM);
  }();
  return path;
}

const std::string& disturbing_library() {
  static const std::string path = WEXLO_DISTURB;
  return path;
}

const std::string& source_folder() {
  static const std::string path = WEXLO_SOURCE_DIR;
  return path;
}

bool watched() {
#ifdef WEXLO_WATCHED
  return true;
#else
  return false;
#endif
}

}  // namespace wexlo::test
