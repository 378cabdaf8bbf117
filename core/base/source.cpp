#include "base/source.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstdlib>
#include <limits>

#include "base/file_at.hpp"

namespace wexlo {

Status check_range(const Source& source, std::uint64_t offset, std::uint64_t count) {
  const std::uint64_t left = offset <= source.size() ? source.size() - offset : 0;
  if (count <= left) return {};
  return fail({.code = ErrorCode::Truncated,
               .message = "the file ends too early",
               .file = source.name(),
               .offset = offset,
               .expected = fmt::format("{} bytes", count),
               .found = fmt::format("{} bytes", left),
               .hint = "The file may be cut short: compare its size with the source's."});
}

namespace {

class FileSource final : public Source {
 public:
  FileSource(int fd, std::uint64_t size, std::string name)
      : Source(std::move(name)), fd_(fd), size_(size) {}
  FileSource(const FileSource&) = delete;
  FileSource& operator=(const FileSource&) = delete;
  ~FileSource() override { ::close(fd_); }

  std::uint64_t size() const override { return size_; }

  Result<Stretch> stretch_at(std::uint64_t offset) const override {
    const auto at = static_cast<off_t>(offset);
    const off_t data = ::lseek(fd_, at, SEEK_DATA);
    // A file system that does not know says so, or that all is data.
    if (data < 0) return Stretch{size_ - offset, errno == ENXIO};
    if (data > at) return Stretch{static_cast<std::uint64_t>(data) - offset, true};
    const off_t hole = ::lseek(fd_, at, SEEK_HOLE);
    return Stretch{hole < 0 ? size_ - offset : static_cast<std::uint64_t>(hole) - offset, false};
  }

  Status read_at(std::uint64_t offset, MutableView out) const override {
    WEXLO_CHECK(check_range(*this, offset, out.size()));
    WEXLO_TRY(const std::size_t got, read_file_at(fd_, offset, out, name()));
    // The file shrank while it was read: the size check above no longer holds.
    if (got < out.size()) return check_range(*this, size_, out.size() - got);
    return {};
  }

 private:
  int fd_;
  std::uint64_t size_;
};

class WindowSource final : public Source {
 public:
  WindowSource(SourcePtr whole, std::uint64_t offset, std::uint64_t size, std::string name)
      : Source(std::move(name)), whole_(std::move(whole)), offset_(offset), size_(size) {}
  std::uint64_t size() const override { return size_; }
  Status read_at(std::uint64_t offset, MutableView out) const override {
    WEXLO_CHECK(check_range(*this, offset, out.size()));
    return whole_->read_at(offset_ + offset, out);
  }
  Result<Stretch> stretch_at(std::uint64_t offset) const override {
    WEXLO_TRY(Stretch stretch, whole_->stretch_at(offset_ + offset));
    stretch.size = std::min(stretch.size, size_ - offset);
    return stretch;
  }
  const void* stream() const override { return whole_->stream(); }
  std::string remark() const override { return whole_->remark(); }

 private:
  SourcePtr whole_;
  std::uint64_t offset_, size_;
};

class MemorySource final : public Source {
 public:
  MemorySource(Blob bytes, std::string name) : Source(std::move(name)), bytes_(std::move(bytes)) {}
  std::uint64_t size() const override { return bytes_.size(); }
  Status read_at(std::uint64_t offset, MutableView out) const override {
    WEXLO_CHECK(check_range(*this, offset, out.size()));
    std::ranges::copy(bytes_.view().subspan(static_cast<std::size_t>(offset), out.size()),
                      out.begin());
    return {};
  }

 private:
  Blob bytes_;
};

class JoinedSource final : public Source {
 public:
  JoinedSource(std::vector<Piece> pieces, std::string name)
      : Source(std::move(name)), pieces_(std::move(pieces)) {
    for (const Piece& piece : pieces_) {
      starts_.push_back(size_);
      size_ += piece.size;
    }
  }
  std::uint64_t size() const override { return size_; }
  Status read_at(std::uint64_t offset, MutableView out) const override {
    WEXLO_CHECK(check_range(*this, offset, out.size()));
    for (std::size_t i = index_of(offset); !out.empty(); ++i) {
      const Piece& piece = pieces_[i];
      const std::uint64_t inside = offset - starts_[i];
      const auto count =
          static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), piece.size - inside));
      if (piece.source == nullptr)
        std::ranges::fill(out.first(count), std::byte{0});
      else
        WEXLO_CHECK(piece.source->read_at(piece.offset + inside, out.first(count)));
      out = out.subspan(count);
      offset += count;
    }
    return {};
  }
  Result<Stretch> stretch_at(std::uint64_t offset) const override {
    const std::size_t i = index_of(offset);
    const Piece& piece = pieces_[i];
    const std::uint64_t inside = offset - starts_[i], left = piece.size - inside;
    if (piece.source == nullptr) return Stretch{left, true};
    WEXLO_TRY(Stretch stretch, piece.source->stretch_at(piece.offset + inside));
    stretch.size = std::min(stretch.size, left);
    return stretch;
  }
  const void* stream() const override {
    for (const Piece& piece : pieces_)
      if (piece.source != nullptr && !piece.source->seekable()) return piece.source->stream();
    return nullptr;
  }
  std::string remark() const override {
    for (const Piece& piece : pieces_)
      if (piece.source != nullptr)
        if (std::string said = piece.source->remark(); !said.empty()) return said;
    return {};
  }

 private:
  /// The last piece that begins at or before `offset`: pieces of no bytes are never it.
  std::size_t index_of(std::uint64_t offset) const {
    const auto after = std::ranges::upper_bound(starts_, offset);
    return static_cast<std::size_t>(after - starts_.begin()) - 1;
  }
  std::vector<Piece> pieces_;
  std::vector<std::uint64_t> starts_;
  std::uint64_t size_ = 0;
};

class ScratchSource final : public Source {
 public:
  ScratchSource(std::shared_ptr<const Scratch> scratch, std::uint64_t size, std::string name)
      : Source(std::move(name)), scratch_(std::move(scratch)), size_(size) {}
  std::uint64_t size() const override { return size_; }
  Status read_at(std::uint64_t offset, MutableView out) const override {
    WEXLO_CHECK(check_range(*this, offset, out.size()));
    return scratch_->read_at(offset, out);
  }

 private:
  std::shared_ptr<const Scratch> scratch_;
  std::uint64_t size_;
};

/// Another's bytes, and a check of them.
class SourceWithCheck final : public Source {
 public:
  SourceWithCheck(SourcePtr inner, std::string check,
                  std::function<std::unique_ptr<Checker>()> checker)
      : Source(inner->name()),
        inner_(std::move(inner)),
        check_(std::move(check)),
        checker_(std::move(checker)) {}
  std::uint64_t size() const override { return inner_->size(); }
  Status read_at(std::uint64_t offset, MutableView out) const override {
    return inner_->read_at(offset, out);
  }
  const void* stream() const override { return inner_->stream(); }
  std::string own_check() const override { return check_; }
  std::unique_ptr<Checker> checker() const override { return checker_(); }

 private:
  SourcePtr inner_;
  std::string check_;
  std::function<std::unique_ptr<Checker>()> checker_;
};

}  // namespace

Result<SourcePtr> open_joined(std::vector<Piece> pieces, std::string name) {
  std::erase_if(pieces, [](const Piece& one) { return one.size == 0; });
  std::uint64_t total = 0;
  for (const Piece& piece : pieces) {
    if (piece.source != nullptr) WEXLO_CHECK(check_range(*piece.source, piece.offset, piece.size));
    if (piece.size > std::numeric_limits<std::int64_t>::max() - total)
      return fail({.code = ErrorCode::OutOfRange,
                   .message = "the pieces are larger than any file",
                   .file = std::move(name)});
    total += piece.size;
  }
  return std::make_shared<JoinedSource>(std::move(pieces), std::move(name));
}

Result<std::shared_ptr<Scratch>> Scratch::create() {
  std::error_code error;
  const auto folder = std::filesystem::temp_directory_path(error);
  std::string path = (error ? "/tmp" : folder.string()) + "/wexlo-XXXXXX";
  const int fd = ::mkostemp(path.data(), O_CLOEXEC);
  if (fd < 0) return fail(io_error(errno, "cannot make a temporary file", path));
  ::unlink(path.c_str());
  return std::shared_ptr<Scratch>(new Scratch(fd));
}

Scratch::~Scratch() {
  ::close(fd_);
}

Status Scratch::resize(std::uint64_t size) const {
  if (::ftruncate(fd_, static_cast<off_t>(size)) == 0) return {};
  return fail(io_error(errno, "cannot write", "a temporary file"));
}

Status Scratch::write_at(std::uint64_t offset, View bytes) const {
  return write_file_at(fd_, offset, bytes, "a temporary file");
}

Status Scratch::read_at(std::uint64_t offset, MutableView out) const {
  return read_whole_at(fd_, offset, out, "a temporary file");
}

SourcePtr open_scratch(std::shared_ptr<const Scratch> scratch, std::uint64_t size,
                       std::string name) {
  return std::make_shared<ScratchSource>(std::move(scratch), size, std::move(name));
}

Result<SourcePtr> open_file(const std::filesystem::path& path) {
  // A pipe that nobody writes to would hold the open, and no signal would end it.
  const int fd = ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK | O_NOCTTY);
  if (fd < 0) return fail(io_error(errno, "cannot open", path.string()));
  struct stat info {};
  const auto close_with = [&](Error error) {
    ::close(fd);
    return fail(std::move(error));
  };
  if (::fstat(fd, &info) != 0) return close_with(io_error(errno, "cannot open", path.string()));
  if (S_ISDIR(info.st_mode)) return close_with(io_error(EISDIR, "cannot read", path.string()));
  auto size = static_cast<std::uint64_t>(info.st_size);
  if (S_ISBLK(info.st_mode)) {
    const off_t end = ::lseek(fd, 0, SEEK_END);
    size = end < 0 ? 0 : static_cast<std::uint64_t>(end);
  } else if (!S_ISREG(info.st_mode)) {
    return close_with({.code = ErrorCode::Io,
                       .message = "a plain file is needed here",
                       .file = path.string(),
                       .found = S_ISFIFO(info.st_mode)   ? "a pipe"
                                : S_ISSOCK(info.st_mode) ? "a socket"
                                                         : "a device",
                       .hint = "Save the bytes to a file first."});
  }
  return std::make_shared<FileSource>(fd, size, path.string());
}

Result<SourcePtr> open_window(SourcePtr whole, std::uint64_t offset, std::uint64_t size,
                              std::string name) {
  WEXLO_CHECK(check_range(*whole, offset, size));
  return std::make_shared<WindowSource>(std::move(whole), offset, size, std::move(name));
}

SourcePtr with_check(SourcePtr source, std::string check,
                     std::function<std::unique_ptr<Checker>()> checker) {
  return std::make_shared<SourceWithCheck>(std::move(source), std::move(check), std::move(checker));
}

SourcePtr open_memory(Blob bytes, std::string name) {
  return std::make_shared<MemorySource>(std::move(bytes), std::move(name));
}

Result<Blob> read_all(const Source& source, std::uint64_t limit) try {
  if (source.size() > limit)
    return fail({.code = ErrorCode::LimitExceeded,
                 .message = "larger than such a file can be",
                 .file = source.name(),
                 .expected = fmt::format("at most {} bytes", limit),
                 .found = fmt::format("{} bytes", source.size()),
                 .hint = "Look whether it is the file that you meant."});
  RawBuffer bytes(static_cast<std::size_t>(source.size()));
  WEXLO_CHECK(source.read_at(0, bytes.view()));
  return bytes.release();
} catch (const std::bad_alloc& why) {
  return fail(no_memory_error(why, "reading " + source.name()));
}

Result<Bytes> read_some(const Source& source, std::uint64_t offset, std::uint64_t size) {
  const std::uint64_t left = offset <= source.size() ? source.size() - offset : 0;
  Bytes bytes(static_cast<std::size_t>(std::min(size, left)));
  WEXLO_CHECK(source.read_at(std::min(offset, source.size()), bytes));
  return bytes;
}

Result<std::size_t> SourceStream::read(MutableView out) {
  const auto count = static_cast<std::size_t>(std::min<std::uint64_t>(left_, out.size()));
  WEXLO_CHECK(source_.read_at(at_, out.first(count)));
  at_ += count;
  left_ -= count;
  return count;
}

}  // namespace wexlo
