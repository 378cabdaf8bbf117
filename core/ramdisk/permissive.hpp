#pragma once
/// Words that switch SELinux to permissive, or off: wherever a start reads them.

#include <string>
#include <string_view>
#include <vector>

#include "ramdisk/ramdisk.hpp"

namespace wexlo {

struct PermissiveWord {
  std::string where;  ///< "cmdline", "bootconfig", "/default.prop", "device tree /chosen"
  std::string word;   ///< as it stands there
};

/// In a kernel command line, or a bootconfig (one setting a line, blanks around `=`).
[[nodiscard]] std::vector<PermissiveWord> permissive_words(std::string_view text,
                                                           std::string_view where);
/// In the property files of a ramdisk.
[[nodiscard]] std::vector<PermissiveWord> permissive_properties(const Ramdisk& ramdisk);

/// Files that hold the SELinux policy: compared, since what is in them is not read.
[[nodiscard]] bool is_policy_name(std::string_view place);
/// `default.prop`, `prop.default`, `build.prop` and the like.
[[nodiscard]] bool is_property_name(std::string_view place);

}  // namespace wexlo
