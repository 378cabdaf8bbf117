#include "base/source.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>

namespace wexlo {
namespace {

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

class FileSource final : public Source {
 public:
  FileSource(int fd, std::uint64_t size, std::string name)
      : Source(std::move(name)), fd_(fd), size_(size) {}
  FileSource(const FileSource&) = delete;
  FileSource& operator=(const FileSource&) = delete;
  ~FileSource() override { ::close(fd_); }

  std::uint64_t size() const override { return size_; }

  Status read_at(std::uint64_t offset, MutableView out) const override {
    WEXLO_CHECK(check_range(*this, offset, out.size()));
    while (!out.empty()) {
      const auto got = ::pread(fd_, out.data(), out.size(), static_cast<off_t>(offset));
      if (got < 0 && errno == EINTR) continue;
      if (got < 0) return fail(io_error(errno, "cannot read", name()));
      // The file shrank while it was read: the size check above no longer holds.
      if (got == 0) return check_range(*this, size_, out.size());
      offset += static_cast<std::uint64_t>(got);
      out = out.subspan(static_cast<std::size_t>(got));
    }
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

}  // namespace

Result<SourcePtr> open_file(const std::filesystem::path& path) {
  const int fd = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
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
    return close_with({.code = ErrorCode::Unsupported,
                       .message = "neither a file nor a block device",
                       .file = path.string(),
                       .hint = "Save the bytes to a file first."});
  }
  return std::make_shared<FileSource>(fd, size, path.string());
}

Result<SourcePtr> open_window(SourcePtr whole, std::uint64_t offset, std::uint64_t size,
                              std::string name) {
  WEXLO_CHECK(check_range(*whole, offset, size));
  return std::make_shared<WindowSource>(std::move(whole), offset, size, std::move(name));
}

SourcePtr open_memory(Blob bytes, std::string name) {
  return std::make_shared<MemorySource>(std::move(bytes), std::move(name));
}

Result<Blob> read_all(const Source& source, std::uint64_t limit) {
  if (source.size() > limit)
    return fail({.code = ErrorCode::LimitExceeded,
                 .message = "too large to be read whole",
                 .file = source.name(),
                 .expected = fmt::format("at most {} bytes", limit),
                 .found = fmt::format("{} bytes", source.size()),
                 .hint = "Extract the partition that is wanted first."});
  RawBuffer bytes(static_cast<std::size_t>(source.size()));
  WEXLO_CHECK(source.read_at(0, bytes.view()));
  return bytes.release();
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
