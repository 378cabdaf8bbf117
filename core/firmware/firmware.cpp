#include "firmware/firmware.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>

#include "base/digest.hpp"

namespace wexlo {
namespace {

constexpr std::size_t kChunk = 1u << 20;

class MemorySink final : public ImageSink {
 public:
  Status resize(std::uint64_t size) override {
    bytes_.resize(static_cast<std::size_t>(size));
    return {};
  }
  // Writers keep to the size they set and to ranges of their own.
  Status write_at(std::uint64_t offset, View bytes) override {
    std::ranges::copy(bytes, bytes_.begin() + static_cast<std::ptrdiff_t>(offset));
    return {};
  }
  Status read_at(std::uint64_t offset, MutableView out) override {
    std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(offset), out.size(), out.begin());
    return {};
  }
  Bytes take() { return std::move(bytes_); }

 private:
  Bytes bytes_;
};

class FileSink final : public ImageSink {
 public:
  explicit FileSink(OutputFile& file) : file_(file) {}
  Status resize(std::uint64_t size) override { return file_.resize(size); }
  Status write_at(std::uint64_t offset, View bytes) override {
    return file_.write_at(offset, bytes);
  }
  Status read_at(std::uint64_t offset, MutableView out) override {
    return file_.read_at(offset, out);
  }

 private:
  OutputFile& file_;
};

}  // namespace

const PartitionFacts* Firmware::find(std::string_view name) const {
  const auto at = std::ranges::find(partitions(), name, &PartitionFacts::name);
  return at == partitions().end() ? nullptr : &*at;
}

Status check_partition_name(std::string_view name) {
  const auto plain = [](unsigned char c) {
    return std::isalnum(c) || c == '_' || c == '-' || c == '.';
  };
  if (!name.empty() && name.size() <= 64 && name.front() != '.' && std::ranges::all_of(name, plain))
    return {};
  return fail({.code = ErrorCode::UnsafePath,
               .message = "a partition's name cannot be a file name",
               .expected = "letters, digits, _ - . (not first), at most 64",
               .found = fmt::format("\"{}\"", name.substr(0, 80)),
               .hint = "No stock firmware has such a name: do not trust this package."});
}

Result<Blob> read_partition(const Firmware& firmware, const PartitionFacts& partition,
                            std::uint64_t limit, const Context& context) {
  if (partition.size > limit)
    return fail(
        {.code = ErrorCode::LimitExceeded,
         .message = fmt::format("partition {} is too large to be held in memory", partition.name),
         .expected = fmt::format("at most {} bytes", limit),
         .found = fmt::format("{} bytes", partition.size)});
  MemorySink sink;
  WEXLO_CHECK(firmware.read(partition, sink, context));
  return Blob(sink.take());
}

Result<ReadPartition> read_partition(const Firmware& firmware, const PartitionFacts& partition,
                                     const std::filesystem::path& target, Overwrite overwrite,
                                     const Context& context) {
  WEXLO_TRY(OutputFile file, OutputFile::create(target, overwrite));
  FileSink sink(file);
  WEXLO_TRY(std::string sha256, firmware.read(partition, sink, context));
  return ReadPartition{std::move(file), std::move(sha256)};
}

Result<Bytes> digest_of(ImageSink& sink, std::uint64_t size, const Context& context) {
  Hasher hasher(DigestKind::Sha256);
  Bytes chunk(kChunk);
  for (std::uint64_t at = 0; at < size; at += kChunk) {
    WEXLO_CHECK(check_stop(context));
    const auto part = MutableView(chunk).first(std::min<std::uint64_t>(kChunk, size - at));
    WEXLO_CHECK(sink.read_at(at, part));
    hasher.update(part);
  }
  return hasher.finish();
}

}  // namespace wexlo
