/// Making the way back.

#include <algorithm>

#include "base/delta.hpp"
#include "recipe/way_back.hpp"

namespace wexlo {
namespace {

constexpr std::size_t kSmall = 1u << 20;

/// How the way back is packed. @param packed  bytes of it that are packed streams of the stock
/// image
Framing packing(std::size_t size, std::size_t packed) {
  if (size <= kSmall) return {.level = 1, .variant = 1};  // a large dictionary only costs time
  // What was packed before does not get smaller, however long it is tried.
  return {.level = packed > size / 2 ? 0 : 6, .variant = 0};
}

std::size_t unpacked_size(const Unfolded& image) {
  std::size_t out = 0;
  for (const ImageStream& one : image.streams)
    out += one.decoded.size();
  return out;
}

}  // namespace

Result<MadeWayBack> make_way_back(const Blob& stock_bytes, const Unfolded& stock,
                                  const Unfolded& patched, bool whole, TaskGroup& tasks,
                                  const Context& context) {
  MadeWayBack out;
  std::vector<bool> same(patched.streams.size());
  Bytes rows, target;
  target.reserve(stock_bytes.size() + unpacked_size(stock));
  std::uint64_t at = 0;
  std::size_t packed = 0;
  for (const ImageStream& stream : stock.streams) {
    const View encoded = stream.encoded.view();
    WayBackRow row{.gap = stream.offset - at};
    append(target, stock_bytes.view().subspan(at, row.gap));
    at = stream.offset + encoded.size();
    for (std::size_t i = 0; i < patched.streams.size() && row.mode != WayBackMode::Same; ++i)
      if (equal(patched.streams[i].encoded.view(), encoded)) {
        row.mode = WayBackMode::Same;
        row.size = i;
        same[i] = true;
      }
    if (row.mode == WayBackMode::Whole) {
      WEXLO_CHECK(check_stop(context));
      const Setting setting = whole && stream.compression != Compression::None
                                  ? Setting{}
                                  : find_setting(stream.compression, stream.decoded.view(), encoded,
                                                 stream.framing, context);
      if (setting.proof != Proof::None) {
        row = {WayBackMode::Packed, row.gap, stream.decoded.size(), stream.compression,
               setting.framing};
        append(target, stream.decoded.view());
      } else {
        row.size = encoded.size();
        append(target, encoded);
        if (stream.compression != Compression::None) packed += encoded.size();
      }
      if (!whole) out.settings.emplace(encoded.data(), setting);
      if (setting.proof != Proof::None && stream.compression != Compression::None)
        out.repackings.push_back(std::make_shared<Repacking>(
            Repacking{stream.compression, setting.framing, stream.decoded, stream.encoded,
                      setting.proof == Proof::Whole}));
    }
    put_row(rows, row);
  }
  append(target, stock_bytes.view().subspan(at));
  for (const auto& one : out.repackings)
    if (!one->same)
      tasks.submit(0, [one, near = beside(patched, one->compression), &context]() -> Status {
        const auto again =
            encode(one->compression, one->decoded.view(), one->framing, context, near);
        one->same = again && equal(*again, one->encoded.view());
        return check_stop(context);
      });
  Bytes plain = to_bytes(kWayBackMagic);
  put_varint(plain, stock.streams.size());
  append(plain, View(rows));
  append(plain, View(make_delta(way_back_source(patched, same), target)));
  target = {};
  WEXLO_TRY(out.carried, encode(Compression::Xz, plain, packing(plain.size(), packed), context));
  return out;
}

}  // namespace wexlo
