#include "firmware/gpt.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/crc.hpp"
#include "firmware/super.hpp"

namespace wexlo {
namespace {

constexpr std::string_view kGptMagic = "EFI PART";
constexpr std::size_t kGptHeader = 92, kEntry = 128, kNameAt = 56, kNameUnits = 36;
constexpr std::uint32_t kMaxEntries = 4096, kMaxEntry = 4096;
constexpr std::size_t kSuperProbe = 12u << 10;
constexpr std::uint64_t kSectors[] = {512, 4096};

template <class T>
T le(View at, std::size_t offset) {
  return load<T, std::endian::little>(at.data() + offset);
}

struct Table {
  std::uint64_t sector = 0;
  std::uint32_t count = 0, entry = 0;
  Bytes entries;
};

Error wrong(std::string message, std::uint64_t at, std::string expected, std::string found) {
  return {.code = ErrorCode::Corrupt,
          .message = std::move(message),
          .offset = at,
          .expected = std::move(expected),
          .found = std::move(found),
          .hint = "The dump is damaged: read it from the phone again."};
}

Result<Table> read_table(const Source& source, std::uint64_t at, std::uint64_t sector) {
  WEXLO_TRY(Bytes header, read_some(source, at, sector));
  if (header.size() < kGptHeader || !as_text(header).starts_with(kGptMagic))
    return fail(wrong("no partition table here", at, std::string(kGptMagic), ""));
  const auto size = le<std::uint32_t>(header, 12), promised = le<std::uint32_t>(header, 16);
  if (size < kGptHeader || size > header.size())
    return fail(
        wrong("the table header's size is out of range", at + 12, "92", fmt::format("{}", size)));
  std::fill_n(header.begin() + 16, 4, std::byte{0});
  if (const auto found = crc32_of(View(header).first(size)); found != promised)
    return fail(wrong("the table header's CRC-32 does not match", at + 16,
                      fmt::format("{:08x}", promised), fmt::format("{:08x}", found)));
  Table out{.sector = sector,
            .count = le<std::uint32_t>(header, 80),
            .entry = le<std::uint32_t>(header, 84)};
  if (out.count > kMaxEntries || out.entry < kEntry || out.entry > kMaxEntry)
    return fail(wrong("the table's counts are out of range", at + 80,
                      fmt::format("up to {} entries of {} bytes and more", kMaxEntries, kEntry),
                      fmt::format("{} of {}", out.count, out.entry)));
  const auto first = le<std::uint64_t>(header, 72);
  if (first > source.size() / sector)
    return fail(wrong("the table's entries lie outside the dump", at + 72, "",
                      fmt::format("sector {}", first)));
  WEXLO_TRY(out.entries, read_some(source, first * sector, std::uint64_t{out.count} * out.entry));
  if (out.entries.size() < std::size_t{out.count} * out.entry)
    return fail(wrong("the table's entries are cut short", first * sector, "", ""));
  if (const auto found = crc32_of(out.entries); found != le<std::uint32_t>(header, 88))
    return fail(wrong("the table entries' CRC-32 does not match", at + 88,
                      fmt::format("{:08x}", le<std::uint32_t>(header, 88)),
                      fmt::format("{:08x}", found)));
  return out;
}

/// Names are UTF-16; partitions have plain ones. What is not becomes `_`.
std::string name_of(View entry) {
  std::string out;
  for (std::size_t i = 0; i < kNameUnits; ++i) {
    const auto unit = le<std::uint16_t>(entry, kNameAt + 2 * i);
    if (unit == 0) break;
    const bool plain =
        unit < 0x80 && (std::isalnum(unit) || unit == '_' || unit == '-' || (unit == '.' && i > 0));
    out += plain ? static_cast<char>(unit) : '_';
  }
  return out;
}

Result<Table> find_table(const Source& source, Firmware& firmware) {
  std::optional<Error> first;
  for (const std::uint64_t sector : kSectors) {
    auto primary = read_table(source, sector, sector);
    if (primary) return primary;
    if (!first || primary.error().message != "no partition table here")
      first = std::move(primary).error();
  }
  for (const std::uint64_t sector : kSectors) {
    if (source.size() < 2 * sector) continue;
    auto backup = read_table(source, source.size() / sector * sector - sector, sector);
    if (!backup) continue;
    firmware.note(FindingCode::GptBackup,
                  fmt::format("The primary partition table is bad ({}): the backup "
                              "at the end of the dump was used.",
                              first->message));
    return backup;
  }
  return fail(in_file(std::move(*first), source.name()));
}

/// The logical partitions inside super, wherever on the disk it stands.
void add_logical(Firmware& disk) {
  std::vector<PartitionFacts> inside;
  for (const PartitionFacts& one : disk.partitions) {
    const auto source = one.content->source({});
    const auto start = source ? read_some(**source, 0, kSuperProbe) : fail(source.error());
    if (!start || !looks_like_super(*start)) continue;
    const DeviceFinder devices = [&](const std::string& name) -> Result<SourcePtr> {
      WEXLO_TRY(const PartitionFacts* const device, disk.choose(name, one.name));
      return device->content->source({});
    };
    const FirmwarePtr logical = open_logical(one.name, *source, devices, disk);
    if (!logical) continue;
    std::ranges::move(logical->partitions, std::back_inserter(inside));
    std::ranges::move(logical->groups, std::back_inserter(disk.groups));
    std::ranges::move(logical->notes, std::back_inserter(disk.notes));
  }
  std::ranges::move(inside, std::back_inserter(disk.partitions));
}

}  // namespace

bool looks_like_gpt(View start) {
  // A disk whose primary table is gone still says in its first sector that it had one.
  constexpr std::size_t kMarkAt = 510, kTypesAt = 450, kRow = 16;
  if (start.size() >= kSectors[0] && start[kMarkAt] == std::byte{0x55} &&
      start[kMarkAt + 1] == std::byte{0xAA})
    for (std::size_t row = 0; row < 4; ++row)
      if (start[kTypesAt + row * kRow] == std::byte{0xEE}) return true;
  return std::ranges::any_of(kSectors, [&](std::uint64_t sector) {
    return start.size() >= sector + kGptMagic.size() &&
           as_text(start.subspan(static_cast<std::size_t>(sector))).starts_with(kGptMagic);
  });
}

Result<FirmwarePtr> open_gpt(const SourcePtr& source, const Opening&) {
  auto out = std::make_unique<Firmware>();
  WEXLO_TRY(const Table table, find_table(*source, *out));
  std::set<std::string> names;
  std::uint64_t beyond = 0;
  for (std::uint32_t i = 0; i < table.count; ++i) {
    const View entry = View(table.entries).subspan(std::size_t{i} * table.entry, kEntry);
    if (all_zero(entry.first(16))) continue;
    const auto first = le<std::uint64_t>(entry, 32), last = le<std::uint64_t>(entry, 40);
    std::string name = name_of(entry);
    if (name.empty()) name = fmt::format("partition{}", i + 1);
    if (last < first || last >= (std::uint64_t{1} << 52))
      return fail(in_file(wrong(fmt::format("partition {} ends before it begins", name),
                                std::uint64_t{i} * table.entry, fmt::format("from {}", first),
                                fmt::format("to {}", last)),
                          source->name()));
    while (!names.insert(name).second)
      name += fmt::format(".{}", i + 1);
    const std::uint64_t at = first * table.sector, size = (last - first + 1) * table.sector;
    PartitionFacts facts{.name = name, .size = size, .stored_size = size};
    auto window = open_window(source, at, size, source->name() + "!" + name);
    beyond += window ? 0 : 1;
    facts.content = window ? content_of(std::move(*window)) : unreadable(std::move(window).error());
    out->partitions.push_back(std::move(facts));
  }
  add_logical(*out);
  if (beyond > 0)
    out->note(FindingCode::GptCut,
              fmt::format("{} partitions lie behind the end of the dump: it is cut "
                          "short, or a part of the disk only.",
                          beyond));
  out->kind = "gpt";
  out->layers.push_back(
      {"gpt", fmt::format("sectors of {}, {} partitions", table.sector, out->partitions.size())});
  return out;
}

}  // namespace wexlo
