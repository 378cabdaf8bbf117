#include "base/version.hpp"

namespace wexlo {

std::string_view version() {
  return WEXLO_VERSION;
}

}  // namespace wexlo
