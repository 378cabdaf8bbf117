#pragma once
/// Where bytes come from: random-access sources (a file, a window into another source, memory) and
/// forward streams. Sources are read-only, immutable and safe to read from several threads.

#include <filesystem>
#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "base/bytes.hpp"

namespace wexlo {

/// Bytes that are of one sort: stored somewhere, or zeros that are stored nowhere.
struct Stretch {
  std::uint64_t size = 0;
  bool hole = false;
};

/// Fed with all bytes of a source from first to last, it tells whether what the format itself says
/// of them is true.
class Checker {
 public:
  virtual ~Checker() = default;
  virtual void data(View bytes) = 0;
  virtual void zeros(std::uint64_t count) = 0;
  /// Errors: DigestMismatch.
  [[nodiscard]] virtual Status finish() = 0;
};

class Source {
 public:
  virtual ~Source() = default;
  [[nodiscard]] virtual std::uint64_t size() const = 0;  ///< bytes
  /// Fills `out` from `offset`. Errors: Truncated (range outside), Io.
  [[nodiscard]] virtual Status read_at(std::uint64_t offset, MutableView out) const = 0;
  /// How far the bytes from `offset` (below size) are of one sort. Errors: those of reading.
  [[nodiscard]] virtual Result<Stretch> stretch_at(std::uint64_t offset) const {
    return Stretch{size() - offset, false};
  }
  /// The same, where a hole is what the source says nothing of: whoever writes it leaves there what
  /// is there. Sources that are no sparse image say something of every byte.
  [[nodiscard]] virtual Result<Stretch> given_at(std::uint64_t offset) const {
    return Stretch{size() - offset, false};
  }
  /// What it shares with others when it has to be read from front to back: a packed stream that all
  /// of them come out of. nullptr: reading backwards costs no more than forwards.
  [[nodiscard]] virtual const void* stream() const { return nullptr; }
  [[nodiscard]] bool seekable() const { return stream() == nullptr; }
  /// What of its format checks all bytes once they were read from first to last, e.g. "crc-32";
  /// empty: nothing does.
  [[nodiscard]] virtual std::string own_check() const { return {}; }
  /// For formats whose check is not a part of reading; nullptr: none.
  [[nodiscard]] virtual std::unique_ptr<Checker> checker() const { return nullptr; }
  /// What was noticed while all bytes were read, one sentence for people; empty: nothing.
  [[nodiscard]] virtual std::string remark() const { return {}; }
  /// What errors call it: a path, or `archive!member`.
  [[nodiscard]] const std::string& name() const { return name_; }

 protected:
  explicit Source(std::string name) : name_(std::move(name)) {}

 private:
  std::string name_;
};
using SourcePtr = std::shared_ptr<const Source>;

/// Errors: Truncated, with the source's name, the offset and both sizes, when [offset, offset +
/// count) is not inside.
[[nodiscard]] Status check_range(const Source& source, std::uint64_t offset, std::uint64_t count);

/// Opens a regular file (or a block device) for reading only; never waits.
/// Errors: NotFound, Permission, Io (also: a folder, a pipe, a device of another kind).
[[nodiscard]] Result<SourcePtr> open_file(const std::filesystem::path& path);

/// `size` bytes of `whole` from `offset`; nothing is copied. Errors: Truncated.
[[nodiscard]] Result<SourcePtr> open_window(SourcePtr whole, std::uint64_t offset,
                                            std::uint64_t size, std::string name);

/// The same bytes, with a check of them that stands beside them in their container.
/// @param check  its name: Source::own_check  @param checker  makes one for each reading
[[nodiscard]] SourcePtr with_check(SourcePtr source, std::string check,
                                   std::function<std::unique_ptr<Checker>()> checker);

[[nodiscard]] SourcePtr open_memory(Blob bytes, std::string name);

/// A piece of a joined source.
struct Piece {
  SourcePtr source;  ///< nullptr: zeros
  std::uint64_t offset = 0, size = 0;
};
/// Pieces one behind the other; nothing is copied. Errors: Truncated (a piece lies outside).
[[nodiscard]] Result<SourcePtr> open_joined(std::vector<Piece> pieces, std::string name);

/// An anonymous temporary file that is gone when nobody holds it.
class Scratch {
 public:
  /// Errors: Io, NoSpace, Permission.
  [[nodiscard]] static Result<std::shared_ptr<Scratch>> create();
  Scratch(const Scratch&) = delete;
  Scratch& operator=(const Scratch&) = delete;
  ~Scratch();
  [[nodiscard]] Status resize(std::uint64_t size) const;
  [[nodiscard]] Status write_at(std::uint64_t offset, View bytes) const;
  [[nodiscard]] Status read_at(std::uint64_t offset, MutableView out) const;

 private:
  explicit Scratch(int fd) : fd_(fd) {}
  int fd_;
};
/// Its first `size` bytes as a source.
[[nodiscard]] SourcePtr open_scratch(std::shared_ptr<const Scratch> scratch, std::uint64_t size,
                                     std::string name);

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
