#pragma once
/// How images reach a phone.

namespace wexlo {

enum class Slots {
  Current,  ///< the slot the phone starts from
  Both,     ///< only when the same build is known to be in both, or asked for
};

/// How the phone takes images.
enum class Way {
  Bootloader,  ///< its bootloader writes what it is sent over the wire
  Download,    ///< download mode: a package is handed over to another program
};

}  // namespace wexlo
