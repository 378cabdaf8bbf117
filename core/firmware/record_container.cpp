#include "firmware/record_container.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/crc16.hpp"
#include "firmware/damaged.hpp"
#include "firmware/package.hpp"
#include "image/partitions.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

constexpr std::array<std::byte, 4> kMagic{std::byte{0x55}, std::byte{0xAA}, std::byte{0x5A},
                                          std::byte{0xA5}};
constexpr std::size_t kLead = 92;    ///< zero bytes that may come first
constexpr std::size_t kHeader = 98;  ///< before the CRC table
constexpr std::size_t kHeaderSizeAt = 4, kDataSizeAt = 24, kDateAt = 28, kNameAt = 60,
                      kBlockAt = 94;
constexpr std::size_t kText = 16;  ///< bytes of date, time and name
constexpr std::uint64_t kAlign = 4;
constexpr std::size_t kMostRecords = 4096;
constexpr std::uint32_t kMostTable = 8u << 20;  ///< bytes of sums: of an image of 16 GiB

bool is_magic(View at) {
  return at.size() >= kMagic.size() && std::ranges::equal(at.first(kMagic.size()), kMagic);
}

struct Record {
  std::string name;  ///< as it is written
  std::string date;
  std::uint64_t at = 0;  ///< of its header
  std::uint32_t header_size = 0, size = 0, block = 0;
  std::uint64_t data_at() const { return at + header_size; }
  std::uint64_t end() const { return data_at() + size; }
};

class RecordReader {
 public:
  explicit RecordReader(const Source& source) : source_(source) {}

  Result<std::vector<Record>> read() {
    std::vector<Record> out;
    WEXLO_TRY(std::uint64_t at, first());
    while (at < source_.size()) {
      WEXLO_TRY(const Bytes raw, read_some(source_, at, kHeader));
      if (!is_magic(raw)) {
        // What only fills the last block up is no record.
        if (std::ranges::all_of(raw, [](std::byte one) { return one == std::byte{0}; }) &&
            !out.empty())
          break;
        return fail(damaged_container(source_, ErrorCode::Corrupt, at, "no record begins here",
                                      "55 AA 5A A5",
                                      hex(View(raw).first(std::min<std::size_t>(raw.size(), 4)))));
      }
      WEXLO_TRY(Record record, read_one(raw, at));
      at = align_up(record.end(), kAlign);
      out.push_back(std::move(record));
      if (out.size() > kMostRecords)
        return fail(damaged_container(source_, ErrorCode::LimitExceeded, at, "too many records",
                                      fmt::format("at most {}", kMostRecords), ""));
    }
    return out;
  }

 private:
  Result<std::uint64_t> first() const {
    WEXLO_TRY(const Bytes start, read_some(source_, 0, kLead + kMagic.size()));
    return is_magic(start) ? 0 : std::uint64_t{kLead};
  }

  Result<Record> read_one(View raw, std::uint64_t at) const {
    if (raw.size() < kHeader)
      return fail(damaged_container(
          source_, ErrorCode::Truncated, at, "the file ends inside a record's header",
          fmt::format("{} bytes", kHeader), fmt::format("{} bytes", raw.size())));
    const auto u32 = [&](std::size_t where) { return load<std::uint32_t, LE>(raw.data() + where); };
    Record out{.name = std::string(until_nul(raw.subspan(kNameAt, kText))),
               .date = std::string(until_nul(raw.subspan(kDateAt, kText))),
               .at = at,
               .header_size = u32(kHeaderSizeAt),
               .size = u32(kDataSizeAt),
               .block = load<std::uint16_t, LE>(raw.data() + kBlockAt)};
    if (out.header_size < kHeader || out.header_size - kHeader > kMostTable)
      return fail(damaged_container(
          source_, ErrorCode::BadValue, at + kHeaderSizeAt, "a record's header size is wrong",
          fmt::format("{} bytes and a table", kHeader), fmt::format("{}", out.header_size)));
    if (out.end() > source_.size())
      return fail(damaged_container(
          source_, ErrorCode::Truncated, at,
          fmt::format("the file ends inside the record {}", printable(out.name)),
          fmt::format("{} bytes", out.end()), fmt::format("{} bytes", source_.size())));
    const std::uint64_t sums = (out.header_size - kHeader) / 2;
    const std::uint64_t blocks =
        out.block == 0 ? 0 : (std::uint64_t{out.size} + out.block - 1) / out.block;
    // A record may have no sums at all; part of them is a lie.
    if (sums != 0 && sums != blocks)
      return fail(damaged_container(
          source_, ErrorCode::BadValue, at + kHeaderSizeAt,
          fmt::format("the table of sums of {} does not fit its data", printable(out.name)),
          fmt::format("{} sums", blocks), fmt::format("{} sums", sums)));
    return out;
  }

  const Source& source_;
};

/// Partitions are written in capitals here, and cut where the field ends.
std::string partition_of(const Record& record) {
  std::string out = lower_case(record.name);
  if (out.size() + 1 < kText) return out;
  for (const PartitionRow& row : partition_rows())
    if (row.name.starts_with(out)) return std::string(row.name);
  return out;
}

Result<SourcePtr> open_record(const SourcePtr& source, const Record& record) {
  WEXLO_TRY(SourcePtr window,
            open_window(source, record.data_at(), record.size, source->name() + "!" + record.name));
  if (record.header_size == kHeader) return window;
  WEXLO_TRY(Bytes sums, read_some(*source, record.at + kHeader, record.header_size - kHeader));
  return with_block_crcs(std::move(window), record.block, std::move(sums));
}

}  // namespace

bool looks_like_records(View start) {
  if (is_magic(start)) return true;
  return start.size() >= kLead + kMagic.size() && is_magic(start.subspan(kLead)) &&
         std::ranges::all_of(start.first(kLead), [](std::byte one) { return one == std::byte{0}; });
}

Result<FirmwarePtr> open_records(const SourcePtr& source, const Opening& opening) {
  WEXLO_TRY(const std::vector<Record> records, RecordReader(*source).read());
  Bundle bundle{.name = source->name()};
  for (const Record& record : records) {
    const std::string partition = partition_of(record);
    if (auto fits = check_partition_name(partition); !fits)
      return fail(in_file(std::move(fits).error(), source->name()));
    bundle.items.push_back(
        {.path = record.name,
         .size = record.size,
         .stored_size = record.size,
         .open = [source, record](const Context&) { return open_record(source, record); },
         .partition = partition});
  }
  std::string detail = fmt::format("{} records", records.size());
  if (!records.empty() && !records.front().date.empty())
    detail += ", of " + printable(records.front().date);
  return open_package(bundle, {"record-container", std::move(detail)}, opening);
}

}  // namespace wexlo
