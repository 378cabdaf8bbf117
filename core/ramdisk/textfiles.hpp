#pragma once
/// Text files in a ramdisk, edited by the line: fstab and property files. Lines that are not
/// concerned keep their bytes, line ends included.

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/error.hpp"

namespace wexlo {

struct FstabEdit {
  std::string text;                  ///< the file after the edit
  std::vector<std::string> changes;  ///< one a line: `/system: avb, logical -> logical`
};

/// Drops manager flags (the fifth column) as whole words: `avb` drops `avb` and `avb=…`, never
/// `avb_keys=…`. An emptied list becomes `defaults`.
/// @param mount_point  "*" for every entry
/// @param flags        words without their `=…`
[[nodiscard]] FstabEdit drop_fstab_flags(std::string_view text, std::string_view mount_point,
                                         const std::vector<std::string>& flags);

/// The same for one list of flags alone, as device trees have it: empty where none is left.
[[nodiscard]] std::string drop_flags(std::string_view list, const std::vector<std::string>& flags);

/// Sets manager flags: `word=…` takes the place of the flag of that name, others are added. A list
/// that was `defaults` alone becomes the flags alone.
[[nodiscard]] FstabEdit set_fstab_flags(std::string_view text, std::string_view mount_point,
                                        const std::vector<std::string>& flags);
[[nodiscard]] std::string set_flags(std::string_view list, const std::vector<std::string>& flags);
/// Whether any entry has that mount point.
[[nodiscard]] bool mounts(std::string_view text, std::string_view mount_point);

struct FstabRow {
  std::string mount_point;
  bool first_stage = false;  ///< flag first_stage_mount
  bool verified = false;     ///< flag avb, avb_keys, verify or verifyatboot
  bool encrypted = false;    ///< flag fileencryption, forceencrypt, forcefdeorfbe, encryptable
};
/// The entries; comments and lines without five columns are left out.
[[nodiscard]] std::vector<FstabRow> fstab_rows(std::string_view text);

/// File names that a first-stage init looks for: `fstab.<hardware>` anywhere in the ramdisk.
[[nodiscard]] bool is_fstab_name(std::string_view place);

/// Sets `key=value` in every line that sets the key (of several, init takes the first for `ro.`
/// names and the last for others), else adds a line at the end. Setting a value twice changes
/// nothing more.
[[nodiscard]] std::string set_property(std::string_view text, std::string_view key,
                                       std::string_view value);

/// Takes out every line that sets the key.
[[nodiscard]] std::string remove_property(std::string_view text, std::string_view key);
/// The value that the file gives a key; nullopt: it does not set it.
[[nodiscard]] std::optional<std::string> property(std::string_view text, std::string_view key);

/// The lines with their ends, so that joining them gives the text again.
[[nodiscard]] std::vector<std::string_view> lines_of(std::string_view text);

}  // namespace wexlo
