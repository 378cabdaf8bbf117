#pragma once
/// Where bytes come from: random-access sources (a file, a window into another source, memory) and
/// forward streams. Sources are read-only, immutable and safe to read from several threads.

#include <filesystem>
#include <memory>
#include <string>

#include "base/bytes.hpp"

namespace wexlo {

class Source {
 public:
  virtual ~Source() = default;
  [[nodiscard]] virtual std::uint64_t size() const = 0;  ///< bytes
  /// Fills `out` from `offset`. Errors: Truncated (range outside), Io.
  [[nodiscard]] virtual Status read_at(std::uint64_t offset, MutableView out) const = 0;
  /// What errors call it: a path, or `archive!member`.
  [[nodiscard]] const std::string& name() const { return name_; }

 protected:
  explicit Source(std::string name) : name_(std::move(name)) {}

 private:
  std::string name_;
};
using SourcePtr = std::shared_ptr<const Source>;

/// Opens a regular file (or a block device) for reading only.
/// Errors: NotFound, Permission, Io (also: a folder).
[[nodiscard]] Result<SourcePtr> open_file(const std::filesystem::path& path);

/// `size` bytes of `whole` from `offset`; nothing is copied. Errors: Truncated.
[[nodiscard]] Result<SourcePtr> open_window(SourcePtr whole, std::uint64_t offset,
                                            std::uint64_t size, std::string name);

[[nodiscard]] SourcePtr open_memory(Blob bytes, std::string name);

/// The whole source in memory. Errors: LimitExceeded when it is larger than `limit` bytes, Io.
[[nodiscard]] Result<Blob> read_all(const Source& source, std::uint64_t limit);

/// Up to `size` bytes from `offset`: fewer at the end of the source. Errors: Io.
[[nodiscard]] Result<Bytes> read_some(const Source& source, std::uint64_t offset,
                                      std::uint64_t size);

/// Bytes that come one after the other, once.
class Stream {
 public:
  virtual ~Stream() = default;
  /// Reads up to out.size() bytes; 0 is the end.
  [[nodiscard]] virtual Result<std::size_t> read(MutableView out) = 0;
};

/// The bytes [offset, offset + size) of a source, as a stream. The range is checked by each read.
class SourceStream final : public Stream {
 public:
  SourceStream(const Source& source, std::uint64_t offset, std::uint64_t size)
      : source_(source), at_(offset), left_(size) {}
  [[nodiscard]] Result<std::size_t> read(MutableView out) override;

 private:
  const Source& source_;
  std::uint64_t at_, left_;
};

}  // namespace wexlo
