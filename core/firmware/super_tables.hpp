#pragma once
/// The tables of super as they lie on the disk: read and checked here, for those who show them and
/// those who change them. Facts in docs/formats/super.md.

#include "base/bytes.hpp"
#include "base/digest.hpp"
#include "base/source.hpp"

namespace wexlo::super_tables {

inline constexpr std::uint32_t kGeometryMagic = 0x616C4467, kHeaderMagic = 0x414C5030;
inline constexpr std::uint64_t kReserved = 4096, kGeometrySize = 4096, kSector = 512;
inline constexpr std::size_t kGeometryStruct = 52, kHeader = 128, kHeaderLong = 256;
inline constexpr std::size_t kSumSize = 32, kNameSize = 36;
inline constexpr std::uint32_t kMaxMetadata = 16u << 20, kMaxSlots = 64;
inline constexpr std::uint16_t kMajor = 10;
inline constexpr std::uint64_t kMaxPartition = std::uint64_t{1} << 44;
enum : std::uint32_t { SlotSuffixed = 2, GroupSlotSuffixed = 1, Linear = 0, Zero = 1 };

template <class T>
T le(View at, std::size_t offset) {
  return load<T, std::endian::little>(at.data() + offset);
}

struct Geometry {
  std::uint32_t metadata_size = 0, slots = 0;
};

/// Header and tables of one metadata copy, checked; rows are looked at by table.
struct Metadata {
  Bytes header, tables;
  std::uint16_t minor = 0;
  std::uint64_t at = 0;

  struct Table {
    std::uint64_t offset = 0;
    std::uint32_t count = 0, entry = 0;
  };
  Table table(std::size_t index) const {
    const std::size_t at_field = 80 + index * 12;
    return {le<std::uint32_t>(header, at_field), le<std::uint32_t>(header, at_field + 4),
            le<std::uint32_t>(header, at_field + 8)};
  }
  View row(const Table& of, std::uint32_t index) const {
    return View(tables).subspan(static_cast<std::size_t>(of.offset) + std::size_t{index} * of.entry,
                                of.entry);
  }
};
enum TableIndex : std::size_t { Partitions, Extents, Groups, Devices };
inline constexpr std::uint32_t kEntrySize[] = {52, 24, 48, 64};

[[nodiscard]] Error wrong(std::string message, std::uint64_t at, std::string expected,
                          std::string found);
/// Errors: Corrupt, with what is wrong and where; those of reading.
[[nodiscard]] Result<Geometry> read_geometry(const Source& source, std::uint64_t at);
/// Errors: as above, Unsupported (another major version).
[[nodiscard]] Result<Metadata> read_metadata(const Source& source, std::uint64_t at,
                                             std::uint32_t most);
/// "_a", "_b", …
[[nodiscard]] std::string slot_name(std::uint32_t slot);
/// Makes the sums of tables and header valid again.
void renew_sums(Metadata& metadata);

}  // namespace wexlo::super_tables
