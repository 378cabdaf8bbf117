#include "firmware/super_write.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "firmware/super_slot.hpp"

namespace wexlo {

using namespace super_tables;

namespace {

constexpr std::uint16_t kNewestMinor = 2;

class SuperWriter {
 public:
  SuperWriter(const SourcePtr& super, const std::vector<LogicalImage>& images)
      : super_(super), images_(images) {}

  Result<RewrittenSuper> run() {
    auto done = rewrite();
    if (!done) return fail(in_file(std::move(done).error(), super_->name()));
    return done;
  }

 private:
  Result<RewrittenSuper> rewrite() {
    WEXLO_CHECK(read());
    WEXLO_CHECK(find_taken());
    for (const LogicalImage& one : images_)
      WEXLO_CHECK(place(one));
    for (SlotTables& tables : slots_)
      WEXLO_CHECK(renew(tables));
    return compose();
  }

  Status read() {
    auto geometry = read_geometry(*super_, kReserved);
    if (!geometry) geometry = read_geometry(*super_, kReserved + kGeometrySize);
    if (!geometry) return fail(std::move(geometry).error());
    geometry_ = *geometry;
    WEXLO_TRY(const Bytes raw, read_some(*super_, kReserved, kGeometryStruct));
    block_ = std::max<std::uint64_t>(kSector, le<std::uint32_t>(raw, 48));
    std::optional<Error> first;
    for (std::uint32_t slot = 0; slot < geometry_.slots; ++slot) {
      auto metadata = read_metadata(*super_, place_of(slot, false), geometry_.metadata_size);
      if (!metadata)
        metadata = read_metadata(*super_, place_of(slot, true), geometry_.metadata_size);
      if (metadata)
        slots_.push_back({slot, std::move(*metadata)});
      else if (!first)
        first = std::move(metadata).error();
    }
    if (slots_.empty()) return fail(std::move(*first));
    for (const SlotTables& one : slots_)
      if (one.metadata.minor > kNewestMinor)
        return fail({.code = ErrorCode::Unsupported,
                     .message = "tables of a newer version are read, not written",
                     .offset = one.metadata.at + 6,
                     .expected = fmt::format("minor version up to {}", kNewestMinor),
                     .found = fmt::format("{}", one.metadata.minor)});
    return device();
  }

  [[nodiscard]] std::uint64_t place_of(std::uint32_t slot, bool backup) const {
    const std::uint64_t size = geometry_.metadata_size;
    return kReserved + 2 * kGeometrySize + (backup ? size * geometry_.slots : 0) + slot * size;
  }

  Status device() {
    const Metadata& metadata = slots_.front().metadata;
    if (metadata.table(Devices).count == 0)
      return fail(wrong("the tables name no block device", metadata.at, "one at least", "0"));
    const View row = metadata.row(metadata.table(Devices), 0);
    first_sector_ = le<std::uint64_t>(row, 0);
    alignment_ = std::max<std::uint64_t>(kSector, le<std::uint32_t>(row, 8)) / kSector;
    offset_ = le<std::uint32_t>(row, 12) / kSector % alignment_;
    size_ = le<std::uint64_t>(row, 16);
    if (size_ < super_->size()) size_ = super_->size();
    if (size_ > kMaxPartition)
      return fail(wrong("the block device claims an impossible size", metadata.at,
                        fmt::format("at most {} bytes", kMaxPartition), fmt::format("{}", size_)));
    return {};
  }

  /// Every sector that some partition has which stays as it is.
  Status find_taken() {
    for (const SlotTables& tables : slots_)
      for (std::uint32_t i = 0; i < tables.metadata.table(Partitions).count; ++i) {
        const bool replaced = std::ranges::any_of(
            images_, [&](const LogicalImage& one) { return one.name == tables.name_of(i); });
        WEXLO_TRY(const auto extents, tables.extents(i));
        for (const View extent : extents) {
          if (le<std::uint32_t>(extent, 8) != Linear) continue;
          const Extent one{le<std::uint64_t>(extent, 12), le<std::uint64_t>(extent, 0)};
          if (one.begin > kMaxPartition / kSector || one.count > kMaxPartition / kSector)
            return fail(wrong("an extent is out of range", tables.metadata.at, "inside the device",
                              fmt::format("{} sectors from {}", one.count, one.begin)));
          if (le<std::uint32_t>(extent, 20) != 0) {
            if (replaced)
              return fail({.code = ErrorCode::Unsupported,
                           .message = fmt::format("partition {} lies partly on another block "
                                                  "device",
                                                  tables.name_of(i))});
            continue;
          }
          if (replaced)
            old_[tables.name_of(i)].push_back(one);
          else
            take(one);
        }
      }
    for (auto& [name, extents] : old_) {
      std::ranges::stable_sort(extents, {}, &Extent::begin);
      const auto same = std::ranges::unique(extents, {}, &Extent::begin);
      extents.erase(same.begin(), same.end());
    }
    return {};
  }

  void take(const Extent& one) { taken_.emplace(one.begin, one.begin + one.count); }

  [[nodiscard]] bool is_free(const Extent& one) const {
    return std::ranges::none_of(taken_, [&](const auto& other) {
      return one.begin < other.second && other.first < one.begin + one.count;
    });
  }

  /// New extents: those it had, as far as nobody else has them, then what is free.
  Status place(const LogicalImage& image) {
    const bool known = std::ranges::any_of(
        slots_, [&](const SlotTables& one) { return one.find(image.name).has_value(); });
    if (!known)
      return fail({.code = ErrorCode::NotFound,
                   .message = fmt::format("no logical partition {}", image.name)});
    std::uint64_t left = align_up(image.image->size(), block_) / kSector;
    std::vector<Extent>& mine = new_[image.name];
    const auto use = [&](Extent one) {
      one.count = std::min(one.count, left);
      if (one.count == 0 || !is_free(one)) return;
      mine.push_back(one);
      take(one);
      left -= one.count;
    };
    for (const Extent& one : old_[image.name])
      use(one);
    // The others' old room is not free before they were placed: they may want it back.
    for (const Extent& gap : gaps(image.name))
      use(gap);
    if (left == 0) return {};
    return fail({.code = ErrorCode::DoesNotFit,
                 .message = fmt::format("super has no room for {}", image.name),
                 .expected = fmt::format("{} bytes", align_up(image.image->size(), block_)),
                 .found = fmt::format("{} bytes too few", left * kSector),
                 .hint = "Take a smaller image, or drop another logical partition first."});
  }

  [[nodiscard]] std::vector<Extent> gaps(const std::string& name) const {
    std::map<std::uint64_t, std::uint64_t> busy;
    const auto add = [&](std::uint64_t begin, std::uint64_t end) {
      auto [at, fresh] = busy.emplace(begin, end);
      if (!fresh) at->second = std::max(at->second, end);
    };
    for (const auto& [begin, end] : taken_)
      add(begin, end);
    for (const auto& [other, extents] : old_)
      if (other != name && !new_.contains(other))
        for (const Extent& one : extents)
          add(one.begin, one.begin + one.count);
    std::vector<Extent> out;
    // What a device's row says is not believed where the tables themselves lie.
    std::uint64_t at = std::max(first_sector_, place_of(geometry_.slots, true) / kSector);
    const std::uint64_t end = size_ / kSector;
    const auto gap = [&](std::uint64_t to) {
      const std::uint64_t begin = align_up(at - std::min(at, offset_), alignment_) + offset_;
      if (begin < to)
        out.push_back({begin, (to - begin) / (block_ / kSector) * (block_ / kSector)});
    };
    for (const auto& [begin, stop] : busy) {
      if (begin > at) gap(begin);
      at = std::max(at, stop);
    }
    if (at < end) gap(end);
    return out;
  }

  /// Tables of one slot with the new extents, and their sums.
  Status renew(SlotTables& tables) {
    Metadata& metadata = tables.metadata;
    const bool concerned = std::ranges::any_of(
        images_, [&](const LogicalImage& one) { return tables.find(one.name).has_value(); });
    if (!concerned) return {};
    const auto partitions = metadata.table(Partitions), extents = metadata.table(Extents),
               groups = metadata.table(Groups), devices = metadata.table(Devices);
    const auto bytes = [](const Metadata::Table& one) {
      return std::uint64_t{one.count} * one.entry;
    };
    if (partitions.offset != 0 || extents.offset != bytes(partitions) ||
        groups.offset != extents.offset + bytes(extents) ||
        devices.offset != groups.offset + bytes(groups))
      return fail({.code = ErrorCode::Unsupported,
                   .message = "the tables of super stand in an order of their own",
                   .offset = metadata.at + 80});
    Bytes rows = to_bytes(View(metadata.tables).first(static_cast<std::size_t>(bytes(partitions))));
    Bytes all;
    std::uint32_t count = 0;
    for (std::uint32_t i = 0; i < partitions.count; ++i) {
      WEXLO_TRY(const Bytes mine, extent_rows(tables, i, extents.entry));
      const auto here = static_cast<std::uint32_t>(mine.size() / extents.entry);
      std::byte* row = rows.data() + std::size_t{i} * partitions.entry;
      store<std::uint32_t, std::endian::little>(row + 40, count);
      store<std::uint32_t, std::endian::little>(row + 44, here);
      count += here;
      append(all, View(mine));
    }
    const View behind = View(metadata.tables).subspan(static_cast<std::size_t>(groups.offset));
    const std::uint64_t shift = all.size();
    append(rows, View(all));
    append(rows, behind);
    std::byte* header = metadata.header.data();
    const auto put = [&](std::size_t at, std::uint64_t value) {
      store<std::uint32_t, std::endian::little>(header + at, static_cast<std::uint32_t>(value));
    };
    put(92 + 4, count);
    put(104, bytes(partitions) + shift);
    put(116, bytes(partitions) + shift + bytes(groups));
    put(44, rows.size());
    if (metadata.header.size() + rows.size() > geometry_.metadata_size)
      return fail({.code = ErrorCode::DoesNotFit,
                   .message = "the tables of super have no room for so many extents",
                   .expected = fmt::format("at most {} bytes", geometry_.metadata_size),
                   .found = fmt::format("{}", metadata.header.size() + rows.size())});
    metadata.tables = std::move(rows);
    renew_sums(metadata);
    return check_groups(tables);
  }

  Result<Bytes> extent_rows(const SlotTables& tables, std::uint32_t row,
                            std::uint32_t entry) const {
    Bytes out;
    const auto mine = new_.find(tables.name_of(row));
    if (mine == new_.end()) {
      WEXLO_TRY(const auto extents, tables.extents(row));
      for (const View extent : extents)
        append(out, extent);
      return out;
    }
    for (const Extent& one : mine->second) {
      Bytes bytes(entry);
      store<std::uint64_t, std::endian::little>(bytes.data(), one.count);
      store<std::uint32_t, std::endian::little>(bytes.data() + 8, Linear);
      store<std::uint64_t, std::endian::little>(bytes.data() + 12, one.begin);
      append(out, View(bytes));
    }
    return out;
  }

  Status check_groups(const SlotTables& tables) const {
    const auto groups = tables.metadata.table(Groups);
    std::vector<std::uint64_t> sums(groups.count);
    for (std::uint32_t i = 0; i < tables.metadata.table(Partitions).count; ++i) {
      const auto group = le<std::uint32_t>(tables.partition(i), 48);
      WEXLO_TRY(const auto extents, tables.extents(i));
      for (const View extent : extents)
        if (group < sums.size()) sums[group] += le<std::uint64_t>(extent, 0) * kSector;
    }
    for (std::uint32_t i = 0; i < groups.count; ++i) {
      const View row = tables.metadata.row(groups, i);
      const auto most = le<std::uint64_t>(row, 40);
      if (most != 0 && sums[i] > most)
        return fail({.code = ErrorCode::DoesNotFit,
                     .message = fmt::format("group {} of super has no room for that",
                                            until_nul(row.first(kNameSize))),
                     .expected = fmt::format("at most {} bytes", most),
                     .found = fmt::format("{} bytes", sums[i]),
                     .hint = "Take a smaller image, or drop another logical partition first."});
    }
    return {};
  }

  /// Geometry and tables, then what the partitions hold, by place.
  Result<RewrittenSuper> compose() {
    const std::uint64_t data = place_of(geometry_.slots, true);
    WEXLO_TRY(Bytes head, read_some(*super_, 0, data));
    head.resize(static_cast<std::size_t>(data));
    for (const SlotTables& one : slots_)
      for (const bool backup : {false, true}) {
        const auto at = static_cast<std::size_t>(place_of(one.slot, backup));
        Bytes bytes = one.metadata.header;
        append(bytes, View(one.metadata.tables));
        bytes.resize(geometry_.metadata_size);
        std::ranges::copy(bytes, head.begin() + static_cast<std::ptrdiff_t>(at));
      }
    RewrittenSuper out;
    std::map<std::uint64_t, Piece> pieces;
    pieces.emplace(0, Piece{open_memory(Blob(std::move(head)), super_->name()), 0, data});
    for (const LogicalImage& one : images_)
      add_image(one, pieces);
    out.given.push_back({0, data});
    for (const auto& [begin, end] : taken_)
      out.given.push_back({begin * kSector, end * kSector});
    merge(out.given);
    add_rest(pieces);
    std::vector<Piece> ordered;
    for (auto& [at, piece] : pieces)
      ordered.push_back(std::move(piece));
    WEXLO_TRY(out.source, open_joined(std::move(ordered), super_->name()));
    return out;
  }

  void add_image(const LogicalImage& image, std::map<std::uint64_t, Piece>& pieces) const {
    std::uint64_t at = 0;
    for (const Extent& one : new_.at(image.name)) {
      const std::uint64_t size = one.count * kSector, begin = one.begin * kSector;
      const std::uint64_t has =
          std::min(size, image.image->size() - std::min(at, image.image->size()));
      if (has > 0) pieces.emplace(begin, Piece{image.image, at, has});
      if (has < size) pieces.emplace(begin + has, Piece{nullptr, 0, size - has});
      at += size;
    }
  }

  static void merge(std::vector<ByteRange>& ranges) {
    std::ranges::sort(ranges, {}, &ByteRange::begin);
    std::vector<ByteRange> out;
    for (const ByteRange& one : ranges) {
      if (!out.empty() && one.begin <= out.back().end)
        out.back().end = std::max(out.back().end, one.end);
      else
        out.push_back(one);
    }
    ranges = std::move(out);
  }

  /// What stands between: as it was, but for what replaced partitions gave up.
  void add_rest(std::map<std::uint64_t, Piece>& pieces) const {
    std::uint64_t total = super_->size();
    for (const auto& [at, piece] : pieces)
      total = std::max(total, at + piece.size);
    std::vector<ByteRange> empty;
    for (const auto& [name, extents] : old_)
      for (const Extent& one : extents)
        empty.push_back({one.begin * kSector, (one.begin + one.count) * kSector});
    merge(empty);
    std::map<std::uint64_t, Piece> rest;
    std::uint64_t at = 0;
    const auto fill = [&](std::uint64_t to) {
      while (at < to) {
        const auto gone = std::ranges::find_if(
            empty, [&](const ByteRange& one) { return at < one.end && one.begin < to; });
        const bool inside = gone != empty.end() && gone->begin <= at;
        std::uint64_t end = gone == empty.end() ? to
                            : inside            ? std::min(to, gone->end)
                                                : std::min(to, gone->begin);
        const bool beyond = at >= super_->size();
        if (!beyond) end = std::min(end, super_->size());
        rest.emplace(at,
                     inside || beyond ? Piece{nullptr, 0, end - at} : Piece{super_, at, end - at});
        at = end;
      }
    };
    for (const auto& [begin, piece] : pieces) {
      fill(begin);
      at = std::max(at, begin + piece.size);
    }
    fill(total);
    pieces.merge(rest);
  }

  const SourcePtr& super_;
  const std::vector<LogicalImage>& images_;
  Geometry geometry_;
  std::uint64_t block_ = 0, size_ = 0;                           ///< bytes
  std::uint64_t first_sector_ = 0, alignment_ = 1, offset_ = 0;  ///< sectors
  std::vector<SlotTables> slots_;
  std::multimap<std::uint64_t, std::uint64_t> taken_;  ///< sectors [first, second)
  std::map<std::string, std::vector<Extent>> old_, new_;
};

}  // namespace

Result<RewrittenSuper> rewrite_super(const SourcePtr& super,
                                     const std::vector<LogicalImage>& images) {
  return SuperWriter(super, images).run();
}

}  // namespace wexlo
