#pragma once
/// Logical partitions made, resized and removed, as a phone does it: the tables of super in memory,
/// and their bytes for the disk. What partitions hold is not touched. Facts in
/// docs/formats/super.md.

#include "firmware/sparse_write.hpp"
#include "firmware/super_tables.hpp"

namespace wexlo {

class SuperEdit {
 public:
  struct Row {
    std::string name;  ///< with its slot
    std::uint32_t attributes = 0, group = 0;
    std::vector<ByteRange> extents;  ///< on the block device, in order
    [[nodiscard]] std::uint64_t size() const;
  };
  struct GroupRow {
    std::string name;
    std::uint64_t size = 0;  ///< bytes; 0: no bound
  };

  /// Errors: Corrupt, Unsupported (other block devices, extents of other types, a newer version).
  [[nodiscard]] static Result<SuperEdit> read(const Source& super);
  /// Tables of a phone that nobody has an image of. @param size  bytes of the block device
  [[nodiscard]] static SuperEdit make(std::uint64_t size, std::vector<GroupRow> groups);

  [[nodiscard]] const std::vector<Row>& partitions() const { return rows_; }
  [[nodiscard]] const std::vector<GroupRow>& groups() const { return groups_; }
  [[nodiscard]] const Row* find(std::string_view name) const;  ///< nullptr: none
  /// Bytes that no partition has.
  [[nodiscard]] std::uint64_t free() const;

  /// In the group of that name, else in the first one, which has no bound on phones.
  /// Errors: Exists, DoesNotFit (no room in super, or in its group).
  [[nodiscard]] Status create(const std::string& name, const std::string& group,
                              std::uint64_t size);
  /// Keeps the extents that it has, as far as they go. Errors: NotFound, DoesNotFit.
  [[nodiscard]] Status resize(const std::string& name, std::uint64_t size);
  [[nodiscard]] Status drop(const std::string& name);

  /// Geometry and the tables of all slots, primary and backup: the first bytes of super.
  [[nodiscard]] Bytes head() const;

 private:
  [[nodiscard]] Status take(const super_tables::Metadata& metadata);
  [[nodiscard]] Row* row(std::string_view name);
  [[nodiscard]] Status grow(Row& row, std::uint64_t by);
  [[nodiscard]] std::vector<ByteRange> gaps() const;
  [[nodiscard]] std::uint64_t head_size() const;
  [[nodiscard]] Bytes geometry() const;
  [[nodiscard]] Bytes metadata() const;

  std::vector<Row> rows_;
  std::vector<GroupRow> groups_;
  std::vector<std::uint32_t> group_flags_;
  Bytes header_, device_;                              ///< as they were read
  std::uint32_t metadata_size_ = 65536, slots_ = 2;    ///< bytes; count
  std::uint64_t block_ = 4096, size_ = 0, first_ = 0;  ///< bytes
  std::uint64_t alignment_ = std::uint64_t{1} << 20;   ///< of extents, bytes
};

}  // namespace wexlo
