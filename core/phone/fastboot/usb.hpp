#pragma once
/// Phones on this machine's USB. The library is loaded when it is first needed: libusb-1.0.
/// An interface of a bootloader: class 0xFF, subclass 0x42, protocol 0x03, one bulk endpoint each
/// way.

#include <string>
#include <vector>

#include "base/pool.hpp"

namespace wexlo {

/// What lets people use phones without being root; packaging/60-wexlo-phones.rules has it.
inline constexpr std::string_view kUsbRights =
    "SUBSYSTEM==\"usb\", ENV{ID_USB_INTERFACES}==\"*:ff4203:*\", TAG+=\"uaccess\"";

struct UsbPhone {
  std::string place;         ///< bus and ports, "1-4.2": stays the same while it is plugged there
  std::string serial;        ///< empty: it has none, or it may not be opened
  std::uint16_t vendor = 0;  ///< of its maker
  bool needs_rights = false;
};
/// Those at their bootloader. Errors: Unsupported (no libusb), Io.
[[nodiscard]] Result<std::vector<UsbPhone>> usb_phones();

}  // namespace wexlo
