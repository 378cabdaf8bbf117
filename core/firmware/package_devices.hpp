#pragma once
/// The other devices of a super that lies in a package: files beside it.

#include "archive/bundle.hpp"
#include "firmware/super.hpp"

namespace wexlo {

/// Finds a device by the name of its file. @param bundle, opening  live as long as what is given
[[nodiscard]] DeviceFinder device_finder(const Bundle& bundle, const Opening& opening);

}  // namespace wexlo
