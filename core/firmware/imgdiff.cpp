#include "firmware/imgdiff.hpp"

#include <fmt/format.h>
#include <zlib.h>

#include <algorithm>

namespace wexlo {
namespace {

constexpr std::string_view kImgdiff = "IMGDIFF2";
constexpr std::uint32_t kMostChunks = 1u << 16;
constexpr std::uint64_t kMostInflated = 256u << 20;  ///< of one stream
enum ChunkType : std::uint32_t { Normal = 0, Deflate = 2, Raw = 3 };

Error damaged(std::string why, std::string expected = {}, std::string found = {}) {
  return {.code = ErrorCode::Corrupt,
          .message = fmt::format("the patch is damaged: {}", why),
          .expected = std::move(expected),
          .found = std::move(found),
          .hint = "Fetch the package again; compare its digest with the source's."};
}

Result<Bytes> inflate_raw(View packed, std::uint64_t size) {
  Bytes out(static_cast<std::size_t>(size));
  z_stream stream{};
  if (inflateInit2(&stream, -15) != Z_OK) return fail(damaged("a stream cannot be opened"));
  stream.next_in = reinterpret_cast<Bytef*>(const_cast<std::byte*>(packed.data()));
  stream.avail_in = static_cast<uInt>(packed.size());
  stream.next_out = reinterpret_cast<Bytef*>(out.data());
  stream.avail_out = static_cast<uInt>(out.size());
  const int code = inflate(&stream, Z_FINISH);
  const bool whole = code == Z_STREAM_END && stream.avail_out == 0;
  inflateEnd(&stream);
  if (!whole) return fail(damaged("an old stream does not inflate to what the patch says"));
  return out;
}

/// Settings of a deflate stream as the patch gives them.
struct DeflateSettings {
  std::int32_t level = 0, method = 0, window = 0, memory = 0, strategy = 0;
};

Result<Bytes> deflate_raw(View plain, const DeflateSettings& how) {
  z_stream stream{};
  if (deflateInit2(&stream, how.level, how.method, how.window, how.memory, how.strategy) != Z_OK)
    return fail(damaged("it names settings that no stream has"));
  Bytes out(deflateBound(&stream, static_cast<uLong>(plain.size())) + 64);
  stream.next_in = reinterpret_cast<Bytef*>(const_cast<std::byte*>(plain.data()));
  stream.avail_in = static_cast<uInt>(plain.size());
  stream.next_out = reinterpret_cast<Bytef*>(out.data());
  stream.avail_out = static_cast<uInt>(out.size());
  const int code = deflate(&stream, Z_FINISH);
  const std::size_t size = stream.total_out;
  deflateEnd(&stream);
  if (code != Z_STREAM_END) return fail(damaged("a new stream does not deflate"));
  out.resize(size);
  return out;
}

class ImagePatcher {
 public:
  ImagePatcher(View patch, const OldBytes& old, std::uint64_t most, const WriteBytes& write)
      : patch_(patch), in_(patch), old_(old), left_(most), write_(write) {}

  Status run() {
    WEXLO_CHECK(in_.take(kImgdiff.size(), "magic"));
    WEXLO_TRY(const auto count, in_.get<std::uint32_t>("number of chunks"));
    if (count > kMostChunks) return fail(damaged(fmt::format("it has {} chunks", count)));
    for (std::uint32_t i = 0; i < count; ++i) {
      const std::uint64_t at = in_.position();
      auto done = chunk(i);
      if (done) continue;
      Error error = std::move(done).error();
      if (!error.offset) error.offset = at;  // in the patch
      return fail(std::move(error));
    }
    return {};
  }

 private:
  Status chunk(std::uint32_t number) {
    WEXLO_TRY(const auto type, in_.get<std::uint32_t>("chunk's type"));
    switch (type) {
      case Normal: return normal();
      case Deflate: return deflated();
      case Raw: return raw();
      default:
        return fail({.code = ErrorCode::Unsupported,
                     .message = fmt::format("chunk {} of the patch is of another type", number),
                     .expected = "0, 2 or 3",
                     .found = fmt::format("{}", type),
                     .hint = "Take the full package of the build."});
    }
  }

  struct Place {
    std::uint64_t start = 0, size = 0, patch_at = 0;
  };

  Result<Place> place() {
    Place out;
    WEXLO_TRY(out.start, in_.get<std::uint64_t>("source offset"));
    WEXLO_TRY(out.size, in_.get<std::uint64_t>("source size"));
    WEXLO_TRY(out.patch_at, in_.get<std::uint64_t>("patch offset"));
    if (out.start > old_.size || out.size > old_.size - out.start)
      return fail(damaged("it reads beyond the old image",
                          fmt::format("at most {} bytes", old_.size),
                          fmt::format("{} bytes from {}", out.size, out.start)));
    if (out.patch_at > patch_.size())
      return fail(damaged("a part of it lies beyond its end",
                          fmt::format("at most {}", patch_.size()),
                          fmt::format("{}", out.patch_at)));
    return out;
  }

  View patch_from(const Place& at) const {
    return patch_.subspan(static_cast<std::size_t>(at.patch_at));
  }

  Status put(View bytes) {
    if (bytes.size() > left_)
      return fail({.code = ErrorCode::LimitExceeded,
                   .message = "the patch gives more than its image has",
                   .expected = fmt::format("{} bytes more at most", left_),
                   .found = fmt::format("{} bytes", bytes.size()),
                   .hint = "The package is damaged: fetch it again."});
    left_ -= bytes.size();
    return write_(bytes);
  }

  Status normal() {
    WEXLO_TRY(const Place at, place());
    const OldBytes part{at.size, [&](std::uint64_t offset, MutableView out) {
                          return old_.read(at.start + offset, out);
                        }};
    return apply_bsdiff(patch_from(at), part, left_, [&](View bytes) { return put(bytes); });
  }

  Status deflated() {
    WEXLO_TRY(const Place at, place());
    WEXLO_TRY(const auto before, in_.get<std::uint64_t>("inflated size"));
    WEXLO_TRY(const auto after, in_.get<std::uint64_t>("new inflated size"));
    DeflateSettings how;
    for (std::int32_t* one : {&how.level, &how.method, &how.window, &how.memory, &how.strategy}) {
      WEXLO_TRY(const auto value, in_.get<std::uint32_t>("setting"));
      *one = static_cast<std::int32_t>(value);
    }
    if (before > kMostInflated || after > kMostInflated || at.size > kMostInflated)
      return fail({.code = ErrorCode::LimitExceeded,
                   .message = "a stream of the patch is too large",
                   .expected = fmt::format("at most {} bytes", kMostInflated),
                   .found = fmt::format("{} bytes", std::max({before, after, at.size})),
                   .hint = "No stock image has such a stream: do not trust this package."});
    Bytes packed(static_cast<std::size_t>(at.size));
    WEXLO_CHECK(old_.read(at.start, packed));
    WEXLO_TRY(const Bytes plain, inflate_raw(packed, before));
    Bytes changed;
    WEXLO_CHECK(apply_bsdiff(patch_from(at), old_bytes(plain), after, write_behind(changed)));
    if (changed.size() != after)
      return fail(damaged("a new stream is of another size", fmt::format("{} bytes", after),
                          fmt::format("{} bytes", changed.size())));
    WEXLO_TRY(const Bytes out, deflate_raw(changed, how));
    return put(out);
  }

  Status raw() {
    WEXLO_TRY(const auto size, in_.get<std::uint32_t>("size of raw data"));
    WEXLO_TRY(const View bytes, in_.take(size, "raw data"));
    return put(bytes);
  }

  View patch_;
  LeReader in_;
  const OldBytes& old_;
  std::uint64_t left_;
  const WriteBytes& write_;
};

}  // namespace

bool looks_like_imgdiff(View patch) {
  return as_text(patch).starts_with(kImgdiff);
}

Status apply_image_patch(View patch, const OldBytes& old, std::uint64_t most,
                         const WriteBytes& write) {
  if (looks_like_imgdiff(patch)) return ImagePatcher(patch, old, most, write).run();
  return apply_bsdiff(patch, old, most, write);
}

}  // namespace wexlo
