#pragma once
/// What the partitions of a simulated phone hold: in memory, as views of the files that were
/// written; or in a folder, a file each.

#include <filesystem>
#include <map>
#include <memory>
#include <optional>
#include <vector>

#include "base/source.hpp"

namespace wexlo {

/// Bytes to be put into a partition.
struct Put {
  std::uint64_t at = 0, size = 0;  ///< in the partition
  SourcePtr source;                ///< nullptr: zeros
  std::uint64_t from = 0;          ///< in the source
};

/// Room for what is sent to a phone, before it is written to a partition.
class Staged {
 public:
  virtual ~Staged() = default;
  [[nodiscard]] virtual Status write_at(std::uint64_t offset, View bytes) = 0;
  /// All of it, once it is written.
  [[nodiscard]] virtual SourcePtr source() const = 0;
};

class PartitionStore {
 public:
  virtual ~PartitionStore() = default;
  /// Errors: Io, NoSpace.
  [[nodiscard]] virtual Result<std::unique_ptr<Staged>> stage(std::uint64_t size);
  /// Names and sizes in bytes.
  [[nodiscard]] virtual std::map<std::string, std::uint64_t> sizes() const = 0;
  /// nullopt: there is none of that name.
  [[nodiscard]] virtual std::optional<std::uint64_t> size_of(const std::string& name) const = 0;
  /// What it holds now; a later write is not seen in what was opened before. Errors: NotFound, Io.
  [[nodiscard]] virtual Result<SourcePtr> read(const std::string& name) const = 0;
  /// Precondition: inside the partition. Errors: NotFound, Io, NoSpace, those of the sources.
  [[nodiscard]] virtual Status put(const std::string& name, const std::vector<Put>& puts) = 0;
  /// Zeros. Errors: Exists, Io.
  [[nodiscard]] virtual Status add(const std::string& name, std::uint64_t size) = 0;
};
using StorePtr = std::unique_ptr<PartitionStore>;

/// Nothing is copied: a partition is pieces of what was written to it, which has to stay.
class MemoryStore final : public PartitionStore {
 public:
  [[nodiscard]] std::map<std::string, std::uint64_t> sizes() const override;
  [[nodiscard]] std::optional<std::uint64_t> size_of(const std::string& name) const override;
  [[nodiscard]] Result<SourcePtr> read(const std::string& name) const override;
  [[nodiscard]] Status put(const std::string& name, const std::vector<Put>& puts) override;
  [[nodiscard]] Status add(const std::string& name, std::uint64_t size) override;
  /// Everything as it is now, in a store of its own.
  [[nodiscard]] std::unique_ptr<MemoryStore> copy() const;

 private:
  std::map<std::string, std::vector<Piece>> partitions_;
};

/// `NAME.img` each; holes where nothing was written. What is sent is a file beside them, which
/// becomes the partition's where it is written whole: no byte is copied.
class FolderStore final : public PartitionStore {
 public:
  explicit FolderStore(std::filesystem::path folder) : folder_(std::move(folder)) {}
  [[nodiscard]] Result<std::unique_ptr<Staged>> stage(std::uint64_t size) override;
  [[nodiscard]] std::map<std::string, std::uint64_t> sizes() const override;
  [[nodiscard]] std::optional<std::uint64_t> size_of(const std::string& name) const override;
  [[nodiscard]] Result<SourcePtr> read(const std::string& name) const override;
  [[nodiscard]] Status put(const std::string& name, const std::vector<Put>& puts) override;
  [[nodiscard]] Status add(const std::string& name, std::uint64_t size) override;

 private:
  [[nodiscard]] std::filesystem::path path_of(const std::string& name) const;
  [[nodiscard]] Result<bool> adopt(const std::string& name, const Put& put) const;
  std::filesystem::path folder_;
};

}  // namespace wexlo
