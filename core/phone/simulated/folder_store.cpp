#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>

#include "base/file_at.hpp"
#include "firmware/content.hpp"
#include "firmware/firmware.hpp"
#include "phone/simulated/store.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

constexpr std::string_view kEnding = ".img";
constexpr std::size_t kFilePiece = 1u << 20;

/// A partition's file, open for changing it in place: it is the phone's flash, no output.
class FlashFile {
 public:
  explicit FlashFile(const fs::path& path) : path_(path), fd_(::open(path.c_str(), O_RDWR)) {}
  FlashFile(const FlashFile&) = delete;
  FlashFile& operator=(const FlashFile&) = delete;
  ~FlashFile() {
    if (fd_ >= 0) ::close(fd_);
  }

  Status opened() const {
    return fd_ >= 0 ? Status() : fail(io_error(errno, "cannot open", path_.string()));
  }
  Status write(std::uint64_t at, View bytes) const {
    return write_file_at(fd_, at, bytes, path_.string());
  }
  Status clear(std::uint64_t at, std::uint64_t size) const {
    constexpr int kHole = FALLOC_FL_PUNCH_HOLE | FALLOC_FL_KEEP_SIZE;
    if (::fallocate(fd_, kHole, static_cast<off_t>(at), static_cast<off_t>(size)) == 0) return {};
    const Bytes zeros(static_cast<std::size_t>(std::min<std::uint64_t>(size, kFilePiece)));
    for (std::uint64_t done = 0; done < size; done += zeros.size())
      WEXLO_CHECK(write(at + done, View(zeros).first(static_cast<std::size_t>(
                                       std::min<std::uint64_t>(zeros.size(), size - done)))));
    return {};
  }

 private:
  fs::path path_;
  int fd_;
};

Status copy(const FlashFile& file, const Put& put, MutableView room) {
  for (std::uint64_t at = 0; at < put.size;) {
    const MutableView part = room.first(std::min<std::uint64_t>(room.size(), put.size - at));
    WEXLO_CHECK(put.source->read_at(put.from + at, part));
    WEXLO_CHECK(file.write(put.at + at, part));
    at += part.size();
  }
  return {};
}

/// A file beside the partitions that is read as long as somebody holds it, whatever its name is by
/// then.
class StagedSource final : public Source {
 public:
  StagedSource(fs::path path, int fd, std::uint64_t size)
      : Source(path.string()), path_(std::move(path)), fd_(fd), size_(size) {}
  StagedSource(const StagedSource&) = delete;
  StagedSource& operator=(const StagedSource&) = delete;
  ~StagedSource() override {
    if (!adopted) ::unlink(path_.c_str());
    ::close(fd_);
  }
  std::uint64_t size() const override { return size_; }
  Status read_at(std::uint64_t offset, MutableView out) const override {
    WEXLO_CHECK(check_range(*this, offset, out.size()));
    return read_whole_at(fd_, offset, out, path_.string());
  }
  Status write_at(std::uint64_t offset, View bytes) const {
    return write_file_at(fd_, offset, bytes, path_.string());
  }
  [[nodiscard]] const fs::path& path() const { return path_; }
  mutable bool adopted = false;  ///< it is a partition's file now

 private:
  fs::path path_;
  int fd_;
  std::uint64_t size_;
};

class StagedFile final : public Staged {
 public:
  explicit StagedFile(std::shared_ptr<const StagedSource> source) : source_(std::move(source)) {}
  Status write_at(std::uint64_t offset, View bytes) override {
    return source_->write_at(offset, bytes);
  }
  SourcePtr source() const override { return source_; }

 private:
  std::shared_ptr<const StagedSource> source_;
};

}  // namespace

Result<std::unique_ptr<Staged>> FolderStore::stage(std::uint64_t size) {
  std::string path = (folder_ / "sent-XXXXXX").string();
  const int fd = ::mkostemp(path.data(), O_CLOEXEC);
  if (fd < 0) return fail(io_error(errno, "cannot create", path));
  return std::make_unique<StagedFile>(std::make_shared<const StagedSource>(path, fd, size));
}

/// A file that was sent and is written whole takes the partition's place; what the partition has
/// behind it is carried over.
Result<bool> FolderStore::adopt(const std::string& name, const Put& put) const {
  const auto* const sent = dynamic_cast<const StagedSource*>(put.source.get());
  if (sent == nullptr || sent->adopted || put.at != 0 || put.from != 0 || put.size != sent->size())
    return false;
  const fs::path target = path_of(name);
  std::error_code error;
  const std::uint64_t whole = fs::file_size(target, error);
  if (error) return fail(io_error(error.value(), "cannot read", target.string()));
  fs::resize_file(sent->path(), whole, error);
  if (error) return fail(io_error(error.value(), "cannot set the size of", sent->path().string()));
  if (put.size < whole) {
    WEXLO_TRY(const SourcePtr old, open_file(target));
    Bytes room(kFilePiece);
    for (std::uint64_t at = put.size; at < whole;) {
      const MutableView part =
          MutableView(room).first(std::min<std::uint64_t>(kFilePiece, whole - at));
      WEXLO_CHECK(old->read_at(at, part));
      // Zeros stay the hole that they are.
      if (!all_bytes(part, std::byte{0})) WEXLO_CHECK(sent->write_at(at, part));
      at += part.size();
    }
  }
  fs::permissions(sent->path(), fs::perms(0644), error);
  fs::rename(sent->path(), target, error);
  if (error) return fail(io_error(error.value(), "cannot replace", target.string()));
  sent->adopted = true;
  return true;
}

fs::path FolderStore::path_of(const std::string& name) const {
  return folder_ / (name + std::string(kEnding));
}

std::map<std::string, std::uint64_t> FolderStore::sizes() const {
  std::map<std::string, std::uint64_t> out;
  std::error_code error;
  for (const auto& entry : fs::directory_iterator(folder_, error)) {
    const fs::path& path = entry.path();
    std::error_code ignored;
    if (path.extension() != kEnding || !entry.is_regular_file(ignored)) continue;
    out.emplace(path.stem().string(), entry.file_size(ignored));
  }
  return out;
}

std::optional<std::uint64_t> FolderStore::size_of(const std::string& name) const {
  if (!check_partition_name(name)) return std::nullopt;
  std::error_code error;
  const auto size = fs::file_size(path_of(name), error);
  if (error) return std::nullopt;
  return size;
}

Result<SourcePtr> FolderStore::read(const std::string& name) const {
  WEXLO_CHECK(check_partition_name(name));
  return open_file(path_of(name));
}

Status FolderStore::put(const std::string& name, const std::vector<Put>& puts) {
  WEXLO_CHECK(check_partition_name(name));
  if (puts.size() == 1 && puts.front().source != nullptr) {
    WEXLO_TRY(const bool adopted, adopt(name, puts.front()));
    if (adopted) return {};
  }
  const FlashFile file(path_of(name));
  WEXLO_CHECK(file.opened());
  Bytes room(kFilePiece);
  for (const Put& one : puts) {
    if (one.source == nullptr)
      WEXLO_CHECK(file.clear(one.at, one.size));
    else
      WEXLO_CHECK(copy(file, one, room));
  }
  return {};
}

Status FolderStore::add(const std::string& name, std::uint64_t size) {
  WEXLO_CHECK(check_partition_name(name));
  const fs::path path = path_of(name);
  const int fd = ::open(path.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0644);
  if (fd < 0) return fail(io_error(errno, "cannot create", path.string()));
  const bool sized = ::ftruncate(fd, static_cast<off_t>(size)) == 0;
  const int why = errno;
  ::close(fd);
  return sized ? Status() : fail(io_error(why, "cannot set the size of", path.string()));
}

}  // namespace wexlo
