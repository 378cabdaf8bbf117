#pragma once
/// The words of listings: what a key means, and the forms of their values.

#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "firmware/content.hpp"

namespace wexlo::listing {

/// A record: keys in their plain form, with their values.
using Fields = std::vector<std::pair<std::string, std::string>>;

enum class Meaning {
  None,
  Partition,
  File,
  Digest,
  Start,
  StartSector,
  Length,
  LengthSector,
  LengthKib,
  SectorSize,
  FileSector,
  Sparse,
  Operation,
  Device,
  Build,
  Region,
  Baseband,
  Fingerprint,
  AntiRollback
};

/// Lower case, letters and digits only: `SECTOR_SIZE_IN_BYTES` and `sectorSizeInBytes` are one.
[[nodiscard]] std::string plain(std::string_view key);
/// @param key  in its plain form
[[nodiscard]] Meaning meaning_of(std::string_view key);

/// Decimal, 0x…, or with K, M, G behind it.
[[nodiscard]] std::optional<std::uint64_t> number(std::string_view text);

/// A sector of the phone's storage.
struct Sector {
  std::uint64_t number = 0;
  bool from_end = false;  ///< counted back from the end of the storage
};
/// A number, or an expression as `NUM_DISK_SECTORS-5.`.
[[nodiscard]] std::optional<Sector> sector(std::string_view text);

/// A digest in hex, told by its length. @param by  who promises it
[[nodiscard]] std::optional<Promise> promise_of(std::string_view value, std::string_view by);

/// A path with `/` for `\\`, without `./` in front.
[[nodiscard]] std::string slashed(std::string_view path);
/// Without blanks, quotes and commas around it.
[[nodiscard]] std::string_view trimmed(std::string_view text);

/// The partition that a listing's word means: `boot_ab` is both slots of boot, and the names of the
/// boot chain are written small whatever the listing does. Empty: the word is no partition's name.
[[nodiscard]] std::string partition_of(std::string_view word);

/// A storage part of a chipset (`EMMC_BOOT1`, `UFS_LU2`, `NAND`): listings call it a region, too.
[[nodiscard]] bool is_storage(std::string_view word);

}  // namespace wexlo::listing
