#include "firmware/super_edit.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/contains.hpp"
#include "base/digest.hpp"
#include "firmware/super_slot.hpp"

namespace wexlo {

using namespace super_tables;

namespace {

constexpr std::uint16_t kNewestKnown = 2;

Error no_room(const std::string& what, std::uint64_t wanted, std::uint64_t there) {
  return {.code = ErrorCode::DoesNotFit,
          .message = fmt::format("{} has no room for that", what),
          .expected = fmt::format("{} bytes", wanted),
          .found = fmt::format("{} bytes are free", there)};
}

}  // namespace

std::uint64_t SuperEdit::Row::size() const {
  std::uint64_t out = 0;
  for (const ByteRange& one : extents)
    out += one.end - one.begin;
  return out;
}

Result<SuperEdit> SuperEdit::read(const Source& super) {
  auto geometry = read_geometry(super, kReserved);
  if (!geometry) geometry = read_geometry(super, kReserved + kGeometrySize);
  if (!geometry) return fail(in_file(std::move(geometry).error(), super.name()));
  SuperEdit out;
  out.metadata_size_ = geometry->metadata_size;
  out.slots_ = geometry->slots;
  WEXLO_TRY(const Bytes raw, read_some(super, kReserved, kGeometryStruct));
  out.block_ = std::max<std::uint64_t>(kSector, le<std::uint32_t>(raw, 48));
  std::optional<Error> first;
  for (std::uint32_t copy = 0; copy < 2 * out.slots_; ++copy) {
    const std::uint64_t at =
        kReserved + 2 * kGeometrySize + std::uint64_t{copy} * out.metadata_size_;
    const auto metadata = read_metadata(super, at, out.metadata_size_);
    if (metadata) {
      out.size_ = super.size();
      WEXLO_CHECK(out.take(*metadata));
      return out;
    }
    if (!first) first = metadata.error();
  }
  return fail(in_file(std::move(*first), super.name()));
}

Status SuperEdit::take(const Metadata& metadata) {
  const auto unsupported = [&](std::string what) {
    return fail(
        {.code = ErrorCode::Unsupported, .message = std::move(what), .offset = metadata.at});
  };
  if (metadata.minor > kNewestKnown) return unsupported("tables of a newer version");
  header_ = metadata.header;
  const auto devices = metadata.table(Devices), groups = metadata.table(Groups);
  if (devices.count != 1) return unsupported("super spreads over several block devices");
  device_ = to_bytes(metadata.row(devices, 0).first(kEntrySize[Devices]));
  first_ = le<std::uint64_t>(device_, 0) * kSector;
  alignment_ = std::max<std::uint64_t>(block_, le<std::uint32_t>(device_, 8));
  size_ = std::max(size_, le<std::uint64_t>(device_, 16));
  for (std::uint32_t i = 0; i < groups.count; ++i) {
    const View one = metadata.row(groups, i);
    groups_.push_back({std::string(until_nul(one.first(kNameSize))), le<std::uint64_t>(one, 40)});
    group_flags_.push_back(le<std::uint32_t>(one, 36));
  }
  const SlotTables tables{0, metadata};
  for (std::uint32_t i = 0; i < metadata.table(Partitions).count; ++i) {
    const View one = tables.partition(i);
    Row row{tables.name_of(i),
            le<std::uint32_t>(one, 36) & ~std::uint32_t{SlotSuffixed},
            le<std::uint32_t>(one, 48),
            {}};
    WEXLO_TRY(const auto extents, tables.extents(i));
    for (const View extent : extents) {
      if (le<std::uint32_t>(extent, 8) != Linear || le<std::uint32_t>(extent, 20) != 0)
        return unsupported(fmt::format("partition {} is of an extent that is not plain", row.name));
      const std::uint64_t begin = le<std::uint64_t>(extent, 12) * kSector;
      row.extents.push_back({begin, begin + le<std::uint64_t>(extent, 0) * kSector});
    }
    rows_.push_back(std::move(row));
  }
  return {};
}

SuperEdit SuperEdit::make(std::uint64_t size, std::vector<GroupRow> groups) {
  SuperEdit out;
  out.size_ = size;
  out.groups_ = std::move(groups);
  out.groups_.insert(out.groups_.begin(), {"default", 0});
  out.group_flags_.resize(out.groups_.size());
  out.first_ = align_up(out.head_size(), out.alignment_);
  LeWriter device(out.device_);
  device.put<std::uint64_t>(out.first_ / kSector);
  device.put<std::uint32_t>(static_cast<std::uint32_t>(out.alignment_));
  device.put<std::uint32_t>(0);
  device.put<std::uint64_t>(size);
  device.text("super", kNameSize);
  device.put<std::uint32_t>(0);
  LeWriter header(out.header_);
  header.put<std::uint32_t>(kHeaderMagic);
  header.put<std::uint16_t>(kMajor);
  header.put<std::uint16_t>(0);
  header.put<std::uint32_t>(super_tables::kHeader);
  header.zeros(super_tables::kHeader - out.header_.size());
  return out;
}

SuperEdit::Row* SuperEdit::row(std::string_view name) {
  const auto at = std::ranges::find(rows_, name, &Row::name);
  return at == rows_.end() ? nullptr : &*at;
}

const SuperEdit::Row* SuperEdit::find(std::string_view name) const {
  const auto at = std::ranges::find(rows_, name, &Row::name);
  return at == rows_.end() ? nullptr : &*at;
}

std::vector<ByteRange> SuperEdit::gaps() const {
  std::vector<ByteRange> taken;
  for (const Row& one : rows_)
    taken.insert(taken.end(), one.extents.begin(), one.extents.end());
  std::ranges::sort(taken, {}, &ByteRange::begin);
  std::vector<ByteRange> out;
  std::uint64_t at = std::max(first_, head_size());
  const auto gap = [&](std::uint64_t to) {
    const std::uint64_t begin = align_up(at, alignment_);
    if (begin < to) out.push_back({begin, begin + (to - begin) / block_ * block_});
  };
  for (const ByteRange& one : taken) {
    gap(one.begin);
    at = std::max(at, one.end);
  }
  gap(size_);
  std::erase_if(out, [](const ByteRange& one) { return one.begin == one.end; });
  return out;
}

std::uint64_t SuperEdit::free() const {
  std::uint64_t out = 0;
  for (const ByteRange& one : gaps())
    out += one.end - one.begin;
  return out;
}

/// @param row  one of rows_, which stays as it was where there is no room
Status SuperEdit::grow(Row& row, std::uint64_t by) {
  if (row.group < groups_.size() && groups_[row.group].size != 0) {
    const GroupRow& group = groups_[row.group];
    std::uint64_t taken = 0;
    for (const Row& one : rows_)
      if (one.group == row.group) taken += one.size();
    if (by > group.size - std::min(taken, group.size))
      return fail(no_room("group " + group.name, by, group.size - std::min(taken, group.size)));
  }
  const auto before = row.extents;
  const std::uint64_t wanted = by;
  // What follows directly is taken first, wherever it begins.
  if (!row.extents.empty()) {
    const std::uint64_t end = row.extents.back().end;
    std::uint64_t next = size_;
    for (const Row& one : rows_)
      for (const ByteRange& other : one.extents)
        if (other.begin >= end) next = std::min(next, other.begin);
    const std::uint64_t count = std::min(by, (next - std::min(next, end)) / block_ * block_);
    row.extents.back().end += count;
    by -= count;
  }
  for (const ByteRange& gap : gaps()) {
    const std::uint64_t count = std::min(by, gap.end - gap.begin);
    if (count == 0) break;
    row.extents.push_back({gap.begin, gap.begin + count});
    by -= count;
  }
  if (by == 0) return {};
  row.extents = before;
  return fail(no_room("super", wanted, wanted - by));
}

Status SuperEdit::create(const std::string& name, const std::string& group, std::uint64_t size) {
  if (find(name) != nullptr)
    return fail({.code = ErrorCode::Exists, .message = fmt::format("{} is there already", name)});
  if (name.empty() || name.size() > kNameSize)
    return fail({.code = ErrorCode::BadValue, .message = "a partition's name has 1 to 36 letters"});
  const auto at = std::ranges::find(groups_, group, &GroupRow::name);
  Row row{name, 0, at == groups_.end() ? 0 : static_cast<std::uint32_t>(at - groups_.begin()), {}};
  rows_.push_back(std::move(row));
  auto grown = grow(rows_.back(), align_up(size, block_));
  if (!grown) rows_.pop_back();
  return grown;
}

Status SuperEdit::resize(const std::string& name, std::uint64_t size) {
  Row* const one = row(name);
  if (one == nullptr)
    return fail({.code = ErrorCode::NotFound, .message = fmt::format("there is no {}", name)});
  const std::uint64_t wanted = align_up(size, block_), before = one->size();
  if (wanted >= before) return grow(*one, wanted - before);
  std::uint64_t left = before - wanted;
  while (left > 0) {
    ByteRange& last = one->extents.back();
    const std::uint64_t cut = std::min(left, last.end - last.begin);
    last.end -= cut;
    left -= cut;
    if (last.begin == last.end) one->extents.pop_back();
  }
  return {};
}

Status SuperEdit::drop(const std::string& name) {
  if (find(name) == nullptr)
    return fail({.code = ErrorCode::NotFound, .message = fmt::format("there is no {}", name)});
  std::erase_if(rows_, [&](const Row& one) { return one.name == name; });
  return {};
}

std::uint64_t SuperEdit::head_size() const {
  return kReserved + 2 * kGeometrySize + std::uint64_t{2} * slots_ * metadata_size_;
}

Bytes SuperEdit::geometry() const {
  Bytes out;
  LeWriter writer(out);
  writer.put<std::uint32_t>(kGeometryMagic);
  writer.put<std::uint32_t>(kGeometryStruct);
  writer.zeros(kSumSize);
  writer.put<std::uint32_t>(metadata_size_);
  writer.put<std::uint32_t>(slots_);
  writer.put<std::uint32_t>(static_cast<std::uint32_t>(block_));
  std::ranges::copy(digest(DigestKind::Sha256, out), out.begin() + 8);
  out.resize(kGeometrySize);
  return out;
}

Bytes SuperEdit::metadata() const {
  Bytes partitions, extents, groups;
  LeWriter rows(partitions), ranges(extents), names(groups);
  std::uint32_t count = 0;
  for (const Row& one : rows_) {
    rows.text(one.name, kNameSize);
    rows.put<std::uint32_t>(one.attributes);
    rows.put<std::uint32_t>(count);
    rows.put<std::uint32_t>(static_cast<std::uint32_t>(one.extents.size()));
    rows.put<std::uint32_t>(one.group);
    for (const ByteRange& range : one.extents) {
      ranges.put<std::uint64_t>((range.end - range.begin) / kSector);
      ranges.put<std::uint32_t>(Linear);
      ranges.put<std::uint64_t>(range.begin / kSector);
      ranges.put<std::uint32_t>(0);
      ++count;
    }
  }
  for (std::size_t i = 0; i < groups_.size(); ++i) {
    names.text(groups_[i].name, kNameSize);
    names.put<std::uint32_t>(group_flags_[i]);
    names.put<std::uint64_t>(groups_[i].size);
  }
  Metadata out{.header = header_, .tables = partitions};
  append(out.tables, View(extents));
  append(out.tables, View(groups));
  append(out.tables, View(device_));
  std::uint64_t at = 0;
  const auto table = [&](std::size_t index, std::size_t bytes) {
    std::byte* row = out.header.data() + 80 + index * 12;
    store<std::uint32_t, LE>(row, static_cast<std::uint32_t>(at));
    store<std::uint32_t, LE>(row + 4, static_cast<std::uint32_t>(bytes / kEntrySize[index]));
    store<std::uint32_t, LE>(row + 8, kEntrySize[index]);
    at += bytes;
  };
  table(Partitions, partitions.size());
  table(Extents, extents.size());
  table(Groups, groups.size());
  table(Devices, device_.size());
  store<std::uint32_t, LE>(out.header.data() + 44, static_cast<std::uint32_t>(out.tables.size()));
  renew_sums(out);
  append(out.header, View(out.tables));
  out.header.resize(std::max<std::size_t>(out.header.size(), metadata_size_));
  return std::move(out.header);
}

Bytes SuperEdit::head() const {
  Bytes out(kReserved);
  for (int copy = 0; copy < 2; ++copy)
    append(out, View(geometry()));
  const Bytes one = metadata();
  for (std::uint32_t copy = 0; copy < 2 * slots_; ++copy)
    append(out, View(one));
  return out;
}

}  // namespace wexlo
