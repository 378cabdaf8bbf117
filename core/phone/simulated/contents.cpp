/// What a simulated phone's partitions hold: a logical one's bytes lie in super.

#include <fmt/format.h>

#include <algorithm>

#include "image/partitions.hpp"
#include "phone/simulated/simulated_phone.hpp"

namespace wexlo {

Status SimulatedPhone::put(const std::string& partition, const WrittenImage& image) {
  std::vector<Put> puts;
  for (const ByteRange& range : image.given)
    for (std::uint64_t at = range.begin; at < range.end;) {
      WEXLO_TRY(const Stretch stretch, image.image->stretch_at(at));
      const std::uint64_t size = std::min(stretch.size, range.end - at);
      puts.push_back({at, size, stretch.hole ? nullptr : image.image, at});
      at += size;
    }
  return put_raw(partition, puts);
}

/// A logical partition's bytes lie in super, wherever its extents are.
Status SimulatedPhone::put_raw(const std::string& partition, const std::vector<Put>& puts) {
  if (partition == kSuper) super_.reset();
  if (without_slot(partition) == "recovery") state.recovery_ran = false;
  if (!is_logical(partition)) return store_->put(partition, puts);
  std::vector<Put> mapped;
  std::uint64_t begin = 0;
  for (const ByteRange& extent : super()->find(partition)->extents) {
    const std::uint64_t end = begin + (extent.end - extent.begin);
    for (const Put& one : puts) {
      const std::uint64_t from = std::max(one.at, begin), to = std::min(one.at + one.size, end);
      if (from >= to) continue;
      mapped.push_back(
          {extent.begin + (from - begin), to - from, one.source, one.from + (from - one.at)});
    }
    begin = end;
  }
  return store_->put(kSuper, mapped);
}

/// One block of what was written becomes another.
Status SimulatedPhone::spoil(const std::string& partition, const WrittenImage& image) {
  constexpr std::uint64_t kBlock = 4096;
  if (image.given.empty()) return {};
  const ByteRange& range = image.given.back();
  const std::uint64_t at = range.begin + (range.end - range.begin) / 2 / kBlock * kBlock;
  Bytes block(static_cast<std::size_t>(std::min(kBlock, range.end - at)));
  WEXLO_CHECK(image.image->read_at(at, block));
  for (std::byte& one : block)
    one ^= std::byte{0x5A};
  const std::uint64_t size = block.size();
  return put_raw(partition, {{at, size, open_memory(Blob(std::move(block)), "a bad block"), 0}});
}

SuperEdit* SimulatedPhone::super() {
  if (super_ || no_super_) return super_ ? &*super_ : nullptr;
  const auto source = store_->read(kSuper);
  auto read = source ? SuperEdit::read(**source) : Result<SuperEdit>(fail(source.error()));
  // A phone without super has none as long as nothing is written there.
  no_super_ = !source;
  if (read) super_ = std::move(*read);
  return super_ ? &*super_ : nullptr;
}

Result<SourcePtr> SimulatedPhone::content(const std::string& partition) {
  if (!is_logical(partition)) return store_->read(partition);
  WEXLO_TRY(const SourcePtr whole, store_->read(kSuper));
  std::vector<Piece> pieces;
  for (const ByteRange& extent : super()->find(partition)->extents)
    pieces.push_back({whole, extent.begin, extent.end - extent.begin});
  return open_joined(std::move(pieces), partition);
}

Status SimulatedPhone::replace(const std::string& partition, const SourcePtr& image) {
  const auto room = size_of(partition);
  if (!room)
    return fail({.code = ErrorCode::NotFound, .message = fmt::format("there is no {}", partition)});
  WEXLO_TRY(const WrittenImage written, as_written(image, context_));
  if (written.end() > *room)
    return fail({.code = ErrorCode::DoesNotFit,
                 .message = fmt::format("the image of {} is larger than the partition", partition),
                 .expected = fmt::format("at most {} bytes", *room),
                 .found = fmt::format("{} bytes", written.end())});
  state.written.insert(partition);
  return put(partition, written);
}

bool SimulatedPhone::is_logical(const std::string& partition) {
  return super() != nullptr && super()->find(partition) != nullptr;
}

std::optional<std::uint64_t> SimulatedPhone::size_of(const std::string& partition) {
  if (is_logical(partition)) return super()->find(partition)->size();
  return store_->size_of(partition);
}

std::string SimulatedPhone::full_name(const std::string& partition) {
  for (const std::string& one : {partition, partition + "_" + state.slot})
    if (size_of(one)) return one;
  return {};
}

std::vector<std::string> SimulatedPhone::partitions() {
  std::vector<std::string> out;
  for (const auto& [name, size] : store_->sizes())
    out.push_back(name);
  if (super() != nullptr)
    for (const SuperEdit::Row& one : super()->partitions())
      out.push_back(one.name);
  return out;
}

}  // namespace wexlo
