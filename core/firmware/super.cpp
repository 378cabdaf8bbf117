#include "firmware/super.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "firmware/super_tables.hpp"

namespace wexlo {

using namespace super_tables;

namespace {

class SuperReader {
 public:
  SuperReader(SourcePtr source, DeviceFinder devices)
      : source_(std::move(source)), devices_(std::move(devices)) {}

  Result<FirmwarePtr> read() {
    WEXLO_TRY(const Geometry geometry, find_geometry());
    WEXLO_TRY(const Metadata metadata, find_metadata(geometry));
    return build(metadata);
  }

  Result<FirmwarePtr> read_empty() {
    empty_ = true;
    auto geometry = read_geometry(*source_, 0);
    if (!geometry) return failure(std::move(geometry).error());
    auto metadata = read_metadata(*source_, kGeometrySize, kMaxMetadata);
    if (!metadata) return failure(std::move(metadata).error());
    return build(*metadata);
  }

 private:
  std::unexpected<Error> failure(Error error) const {
    if (error.hint.empty()) error.hint = "The image is damaged: fetch it again.";
    return fail(in_file(std::move(error), source_->name()));
  }

  Result<Geometry> find_geometry() {
    auto primary = read_geometry(*source_, kReserved);
    if (primary) return primary;
    auto backup = read_geometry(*source_, kReserved + kGeometrySize);
    if (!backup) return failure(std::move(primary).error());
    firmware_->note(FindingCode::SuperGeometryBackup,
                    fmt::format("The primary geometry of super is bad ({} at {}): its backup was "
                                "used. The phone would do the same; the image was damaged.",
                                primary.error().message, hex_value(*primary.error().offset)));
    return backup;
  }

  Result<Metadata> find_metadata(const Geometry& geometry) {
    const std::uint64_t primary_at = kReserved + 2 * kGeometrySize;
    const std::uint64_t size = geometry.metadata_size;
    std::optional<Error> first;
    for (std::uint32_t slot = 0; slot < geometry.slots; ++slot)
      for (const bool backup : {false, true}) {
        const std::uint64_t at = primary_at + (backup ? size * geometry.slots : 0) + slot * size;
        auto metadata = read_metadata(*source_, at, geometry.metadata_size);
        if (!metadata) {
          if (!first) first = std::move(metadata).error();
          continue;
        }
        if (first)
          firmware_->note(
              FindingCode::SuperMetadataBackup,
              fmt::format("The primary metadata of super for slot _a is bad ({}): the "
                          "{} for slot {} was used.",
                          first->message, backup ? "backup" : "primary copy", slot_name(slot)));
        slot_ = slot;
        return metadata;
      }
    return failure(std::move(*first));
  }

  std::string name_of(View field, std::uint32_t flags, std::uint32_t suffixed) const {
    std::string name(until_nul(field.first(kNameSize)));
    return (flags & suffixed) != 0 ? name + slot_name(slot_) : name;
  }

  Result<FirmwarePtr> build(const Metadata& metadata) {
    const auto table = metadata.table(Partitions);
    for (std::uint32_t i = 0; i < metadata.table(Groups).count; ++i) {
      const View row = metadata.row(metadata.table(Groups), i);
      firmware_->groups.push_back(
          {.name = name_of(row, le<std::uint32_t>(row, 36), GroupSlotSuffixed),
           .size = le<std::uint64_t>(row, 40)});
    }
    for (std::uint32_t i = 0; i < table.count; ++i)
      if (auto added = add_partition(metadata, metadata.row(table, i)); !added)
        return failure(std::move(added).error());
    if (auto apart = check_overlap(); !apart) return failure(std::move(apart).error());
    firmware_->kind = empty_ ? "super-empty" : "super";
    firmware_->layers.push_back(
        {firmware_->kind, fmt::format("version {}.{}, {} partitions{}", kMajor, metadata.minor,
                                      table.count, empty_ ? ", tables only" : "")});
    return std::move(firmware_);
  }

  /// No sector belongs to two partitions.
  Status check_overlap() {
    std::ranges::sort(taken_, {},
                      [](const Taken& one) { return std::pair(one.device, one.begin); });
    for (std::size_t i = 1; i < taken_.size(); ++i) {
      const Taken &one = taken_[i - 1], &next = taken_[i];
      if (one.device == next.device && next.begin < one.end)
        return fail(
            wrong(fmt::format("extents of partitions {} and {} overlap", one.name, next.name),
                  next.begin * kSector, fmt::format("sectors from {}", one.end),
                  fmt::format("sectors from {}", next.begin)));
    }
    return {};
  }

  Status add_partition(const Metadata& metadata, View row) {
    const std::string name = name_of(row, le<std::uint32_t>(row, 36), SlotSuffixed);
    if (auto safe = check_partition_name(name); !safe) return safe;
    const std::uint64_t first = le<std::uint32_t>(row, 40), count = le<std::uint32_t>(row, 44);
    const auto extents = metadata.table(Extents);
    if (first > extents.count || count > extents.count - first)
      return fail(wrong(fmt::format("partition {} names extents that are not there", name),
                        metadata.at, fmt::format("below {}", extents.count),
                        fmt::format("{} from {}", count, first)));
    PartitionFacts facts{.name = name};
    std::vector<Piece> pieces;
    std::optional<Error> trouble;
    for (std::uint64_t i = first; i < first + count; ++i) {
      auto piece = piece_of(metadata, metadata.row(extents, static_cast<std::uint32_t>(i)), name);
      if (!piece) {
        if (piece.error().code == ErrorCode::Corrupt) return fail(std::move(piece).error());
        // The others can be read all the same: it is told to who wants this one.
        if (!trouble) trouble = std::move(piece).error();
        const std::uint64_t sectors =
            le<std::uint64_t>(metadata.row(extents, static_cast<std::uint32_t>(i)), 0);
        facts.size += sectors * kSector;
        continue;
      }
      facts.size += piece->size;
      if (piece->source != nullptr) facts.stored_size += piece->size;
      if (facts.size > kMaxPartition)
        return fail(wrong(fmt::format("partition {} claims an impossible size", name), metadata.at,
                          fmt::format("at most {} bytes", kMaxPartition),
                          fmt::format("{} bytes", facts.size)));
      pieces.push_back(std::move(*piece));
    }
    if (trouble) {
      facts.content = unreadable(in_file(std::move(*trouble), source_->name()));
    } else {
      WEXLO_TRY(SourcePtr joined, open_joined(std::move(pieces), source_->name() + "!" + name));
      facts.content = content_of(std::move(joined));
    }
    const auto group = le<std::uint32_t>(row, 48);
    if (group < firmware_->groups.size()) firmware_->groups[group].partitions.push_back(name);
    firmware_->partitions.push_back(std::move(facts));
    return {};
  }

  Result<Piece> piece_of(const Metadata& metadata, View extent, const std::string& name) {
    const auto sectors = le<std::uint64_t>(extent, 0), data = le<std::uint64_t>(extent, 12);
    const auto type = le<std::uint32_t>(extent, 8), device = le<std::uint32_t>(extent, 20);
    if (sectors > kMaxPartition / kSector || data > kMaxPartition / kSector ||
        (type != Linear && type != Zero))
      return fail(wrong(fmt::format("an extent of partition {} is out of range", name), metadata.at,
                        "type 0 or 1, sectors inside the device",
                        fmt::format("type {}, {} sectors from {}", type, sectors, data)));
    if (type == Zero) return Piece{nullptr, 0, sectors * kSector};
    if (sectors > 0) taken_.push_back({device, data, data + sectors, name});
    WEXLO_TRY(const SourcePtr source, device_of(metadata, device, name));
    if (data * kSector > source->size() || sectors * kSector > source->size() - data * kSector)
      return fail({.code = ErrorCode::OutOfRange,
                   .message = empty_ ? fmt::format("partition {} has its data elsewhere: this "
                                                   "image holds tables only",
                                                   name)
                                     : fmt::format("an extent of partition {} lies outside the "
                                                   "image",
                                                   name),
                   .expected = fmt::format("at most {} bytes", source->size()),
                   .found = fmt::format("{} bytes from {}", sectors * kSector, data * kSector),
                   .hint = "The image may be cut short: compare its size with the source's."});
    return Piece{source, data * kSector, sectors * kSector};
  }

  Result<SourcePtr> device_of(const Metadata& metadata, std::uint32_t index,
                              const std::string& name) {
    const auto devices = metadata.table(Devices);
    if (index >= devices.count)
      return fail(
          wrong(fmt::format("an extent of partition {} lies on a device that is not there", name),
                metadata.at, fmt::format("below {}", devices.count), fmt::format("{}", index)));
    if (index == 0) return source_;
    const View row = metadata.row(devices, index);
    const std::string partition(until_nul(row.subspan(24, kNameSize)));
    if (devices_)
      if (auto found = devices_(partition)) return found;
    return fail({.code = ErrorCode::NotFound,
                 .message = fmt::format("partition {} lies partly on {}, which is not beside super",
                                        name, partition),
                 .hint = "Give the folder that holds both images."});
  }

  struct Taken {
    std::uint32_t device;
    std::uint64_t begin, end;  ///< sectors
    std::string name;
  };
  SourcePtr source_;
  DeviceFinder devices_;
  std::vector<Taken> taken_;
  FirmwarePtr firmware_ = std::make_unique<Firmware>();
  std::uint32_t slot_ = 0;
  bool empty_ = false;
};

bool geometry_at(View start, std::size_t at) {
  return start.size() >= at + 4 && le<std::uint32_t>(start, at) == kGeometryMagic;
}

}  // namespace

bool looks_like_super(View start) {
  return geometry_at(start, kReserved) || geometry_at(start, kReserved + kGeometrySize);
}

bool looks_like_empty_super(View start) {
  return geometry_at(start, 0);
}

Result<FirmwarePtr> open_super_with(const SourcePtr& source, const DeviceFinder& devices) {
  return SuperReader(source, devices).read();
}

FirmwarePtr open_logical(const std::string& name, const SourcePtr& source,
                         const DeviceFinder& devices, Firmware& beside) {
  auto logical = open_super_with(source, devices);
  if (!logical) {
    beside.note(FindingCode::SuperUnreadable,
                fmt::format("{} does not read: {}", name, describe(logical.error())));
    return nullptr;
  }
  for (PartitionFacts& one : (*logical)->partitions)
    one.inside = name;
  return std::move(*logical);
}

namespace {

/// Rooms of groups against what their partitions take.
void check_groups(const Metadata& metadata, std::vector<std::string>& out) {
  const auto groups = metadata.table(Groups), partitions = metadata.table(Partitions);
  const auto extents = metadata.table(Extents);
  for (std::uint32_t g = 0; g < groups.count; ++g) {
    const View group = metadata.row(groups, g);
    const auto room = le<std::uint64_t>(group, 40);
    std::uint64_t taken = 0;
    for (std::uint32_t i = 0; i < partitions.count; ++i) {
      const View row = metadata.row(partitions, i);
      if (le<std::uint32_t>(row, 48) != g) continue;
      const std::uint64_t first = le<std::uint32_t>(row, 40), count = le<std::uint32_t>(row, 44);
      for (std::uint64_t e = first; e < first + count && e < extents.count; ++e)
        taken +=
            le<std::uint64_t>(metadata.row(extents, static_cast<std::uint32_t>(e)), 0) * kSector;
    }
    if (room != 0 && taken > room)
      out.push_back(fmt::format("Group {} has room for {} bytes, its partitions take {}.",
                                until_nul(group.first(kNameSize)), room, taken));
  }
}

bool is_blank(const Source& source, std::uint64_t at) {
  const auto head = read_some(source, at, kHeader);
  return head && all_bytes(*head, std::byte{0});
}

}  // namespace

std::vector<std::string> super_troubles(const Source& source) {
  std::vector<std::string> out;
  std::optional<Geometry> geometry;
  for (const bool backup : {false, true}) {
    const auto one = read_geometry(source, kReserved + (backup ? kGeometrySize : 0));
    if (one)
      geometry = geometry.value_or(*one);
    else
      out.push_back(fmt::format("The {} geometry is bad: {}.", backup ? "backup" : "primary",
                                one.error().message));
  }
  if (!geometry) return out;
  bool groups_checked = false;
  const std::uint64_t begin = kReserved + 2 * kGeometrySize, size = geometry->metadata_size;
  for (const bool backup : {false, true})
    for (std::uint32_t slot = 0; slot < geometry->slots; ++slot) {
      const std::uint64_t at = begin + (backup ? size * geometry->slots : 0) + slot * size;
      const auto one = read_metadata(source, at, geometry->metadata_size);
      if (one && !std::exchange(groups_checked, true)) check_groups(*one, out);
      if (!one && !is_blank(source, at))
        out.push_back(fmt::format("The {} tables for slot {} are bad: {} at {}.",
                                  backup ? "backup" : "primary", slot_name(slot),
                                  one.error().message, hex_value(at)));
    }
  if (!groups_checked) out.emplace_back("No copy of the tables is good.");
  return out;
}

Result<FirmwarePtr> open_super(const SourcePtr& source, const Opening&) {
  return open_super_with(source, {});
}

Result<FirmwarePtr> open_empty_super(const SourcePtr& source, const Opening&) {
  return SuperReader(source, {}).read_empty();
}

}  // namespace wexlo
