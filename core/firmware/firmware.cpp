#include "firmware/firmware.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cctype>
#include <functional>
#include "text/nearest.hpp"

namespace wexlo {
namespace {

/// Zero blocks are not written: they stay holes.
class FileSink final : public ImageSink {
 public:
  explicit FileSink(OutputFile& file) : file_(file) {}
  Status resize(std::uint64_t size) override { return file_.resize(size); }
  Status write_at(std::uint64_t offset, View bytes) override {
    constexpr std::size_t kBlock = 16u << 10;
    std::size_t begin = 0, at = 0;
    while (at < bytes.size()) {
      const std::size_t end =
          std::min<std::size_t>(at + kBlock - (offset + at) % kBlock, bytes.size());
      if (all_zero(bytes.subspan(at, end - at))) {
        if (begin < at)
          WEXLO_CHECK(file_.write_at(offset + begin, bytes.subspan(begin, at - begin)));
        begin = end;
      }
      at = end;
    }
    if (begin == bytes.size()) return {};
    return file_.write_at(offset + begin, bytes.subspan(begin));
  }
  Status read_at(std::uint64_t offset, MutableView out) override {
    return file_.read_at(offset, out);
  }

 private:
  OutputFile& file_;
};

}  // namespace

std::unique_ptr<ImageSink> file_sink(OutputFile& file) {
  return std::make_unique<FileSink>(file);
}

namespace {

std::string label_of(const PartitionFacts& one) {
  return one.from.empty() ? one.name : fmt::format("{} ({})", one.name, one.from);
}

}  // namespace

void BuildFacts::merge(const BuildFacts& other) {
  const auto take = [](std::string& mine, const std::string& theirs) {
    if (mine.empty()) mine = theirs;
  };
  take(fingerprint, other.fingerprint);
  take(device, other.device);
  take(checked_device, other.checked_device);
  take(patch_level, other.patch_level);
  take(incremental, other.incremental);
  take(base, other.base);
  take(region, other.region);
  take(baseband, other.baseband);
  take(bootloader, other.bootloader);
  take(sdk_level, other.sdk_level);
  if (!timestamp) timestamp = other.timestamp;
  if (!anti_rollback) anti_rollback = other.anti_rollback;
  take(model, other.model);
  // Of the parts of a set the lowest number is the one that a phone refuses.
  if (!binary || (other.binary && *other.binary < *binary)) binary = other.binary;
  for (const std::string& demand : other.demands)
    if (std::ranges::find(demands, demand) == demands.end()) demands.push_back(demand);
}

void FlashingSigns::merge(const FlashingSigns& other) {
  if (download.empty()) download = other.download;
  if (bootloader.empty()) bootloader = other.bootloader;
}

const PartitionFacts* Firmware::find(std::string_view name) const {
  const auto at = std::ranges::find(partitions, name, &PartitionFacts::name);
  return at == partitions.end() ? nullptr : &*at;
}

Result<const PartitionFacts*> Firmware::choose(std::string_view name,
                                               const std::string& file) const {
  std::vector<const PartitionFacts*> fits;
  const auto gather = [&](auto fit, const std::vector<PartitionFacts>& among) {
    for (const PartitionFacts& one : among)
      if (fit(one)) fits.push_back(&one);
    return !fits.empty();
  };
  const auto is_name = [&](const PartitionFacts& one) { return one.name == name; };
  const auto is_file = [&](const PartitionFacts& one) { return one.from == name; };
  // Named as the file that comes out: "init_boot.img".
  const auto is_output = [&](const PartitionFacts& one) { return one.name + ".img" == name; };
  // An empty twin of the other slot is no choice: nothing could be taken from it.
  const auto is_slot = [&](const PartitionFacts& one) {
    return one.size > 0 && one.name != name && without_slot(one.name) == name;
  };
  if (!gather(is_name, partitions) && !gather(is_file, partitions) && !gather(is_file, aside) &&
      !gather(is_output, partitions) && gather(is_slot, partitions) && fits.size() > 1) {
    const bool same = std::ranges::find(same_slots, name) != same_slots.end();
    const std::string wanted = "_" + (!slot.empty() ? slot : std::string(same ? "a" : ""));
    const auto other = [&](const PartitionFacts* one) { return slot_suffix(one->name) != wanted; };
    if (std::ranges::count_if(fits, std::not_fn(other)) == 1) std::erase_if(fits, other);
  }
  if (fits.size() == 1) return fits.front();
  std::vector<std::string> labels;
  for (const PartitionFacts& one : partitions)
    if (fits.empty() || std::ranges::find(fits, &one) != fits.end())
      labels.push_back(fits.empty() ? one.name : label_of(one));
  if (fits.empty())
    return fail(
        {.code = ErrorCode::NotFound,
         .message = fmt::format("no partition is named \"{}\"", name),
         .file = file,
         .found = labels.empty() ? "none at all" : fmt::format("{}", fmt::join(labels, ", ")),
         .hint = did_you_mean(name, labels) + "wexlo inspect lists the partitions."});
  return fail({.code = ErrorCode::Ambiguous,
               .message = fmt::format("{} partitions answer to \"{}\"", fits.size(), name),
               .file = file,
               .found = fmt::format("{}", fmt::join(labels, ", ")),
               .hint = "Name the one that is meant: with its slot, or the file that stands in "
                       "brackets."});
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

Result<Blob> read_partition(const PartitionFacts& partition, std::uint64_t limit,
                            const Context& context) {
  if (partition.size > limit)
    return fail(
        {.code = ErrorCode::LimitExceeded,
         .message = fmt::format("partition {} is too large to be held in memory", partition.name),
         .expected = fmt::format("at most {} bytes", limit),
         .found = fmt::format("{} bytes", partition.size)});
  MemorySink sink;
  WEXLO_CHECK(partition.content->read(sink, {.digest = false}, context));
  Blob out = sink.take();
  give_back_zeros(out);
  return out;
}

Result<ReadPartition> read_partition(const PartitionFacts& partition,
                                     const std::filesystem::path& target, Overwrite overwrite,
                                     const ReadOptions& options, const Context& context) {
  WEXLO_TRY(OutputFile file, OutputFile::create(target, overwrite));
  FileSink sink(file);
  WEXLO_TRY(Verified verified, partition.content->read(sink, options, context));
  return ReadPartition{std::move(file), std::move(verified)};
}

}  // namespace wexlo
