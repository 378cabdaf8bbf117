#pragma once
/// Bytes, and checked little- and big-endian access to them. Every size that comes from a file goes
/// through `slice` (one check for a structure) before fields are loaded from it.

#include <bit>
#include <concepts>
#include <cstddef>
#include <cstdint>
#include <cstring>
#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "base/error.hpp"
#include "base/memory.hpp"

namespace wexlo {

using Bytes = std::vector<std::byte>;
using View = std::span<const std::byte>;
using MutableView = std::span<std::byte>;

/// Immutable bytes with shared ownership: cheap to copy, cheap to cut into parts.
class Blob {
 public:
  Blob() = default;
  explicit Blob(Bytes bytes) {
    const auto owner = std::make_shared<const Bytes>(std::move(bytes));
    view_ = *owner;
    owner_ = owner;
  }
  operator View() const { return view_; }

  [[nodiscard]] View view() const { return view_; }
  [[nodiscard]] std::size_t size() const { return view_.size(); }
  [[nodiscard]] bool empty() const { return view_.empty(); }
  /// A part that keeps the whole alive. Precondition: the range lies inside (checked by the
  /// caller).
  [[nodiscard]] Blob part(std::size_t offset, std::size_t count) const {
    Blob out;
    out.owner_ = owner_;
    out.view_ = view_.subspan(offset, count);
    return out;
  }
  [[nodiscard]] Blob rest(std::size_t offset) const { return part(offset, size() - offset); }

 private:
  friend class RawBuffer;
  std::shared_ptr<const void> owner_;
  View view_;
};

/// Room that is about to be filled: not zeroed first, and moved by the system's page tables when it
/// grows. For what is large; everything else is Bytes.
class RawBuffer {
 public:
  explicit RawBuffer(std::size_t size = 0) { resize(size); }
  RawBuffer(RawBuffer&& other) noexcept
      : data_(std::exchange(other.data_, nullptr)), size_(std::exchange(other.size_, 0)) {}
  RawBuffer& operator=(RawBuffer&&) = delete;
  ~RawBuffer();
  /// New bytes are undefined. Throws OutOfMemory.
  void resize(std::size_t size);
  /// New bytes are zeros; of a buffer that was empty they take no memory before they are written.
  void resize_zeroed(std::size_t size);
  [[nodiscard]] std::size_t size() const { return size_; }
  [[nodiscard]] MutableView view() { return {data_, size_}; }
  /// Hands the bytes over; the buffer is empty afterwards.
  /// @param hold  kept as long as anybody has the bytes
  [[nodiscard]] Blob release(Hold hold = Hold());

 private:
  std::byte* data_ = nullptr;
  std::size_t size_ = 0;
};

/// Gives the memory of whole pages of zeros back to the system; they are read as zeros all the
/// same. Images are mostly padding. Precondition: memory of one's own that nobody writes any more.
void give_back_zeros(const Blob& bytes);

[[nodiscard]] bool equal(View a, View b);
[[nodiscard]] bool starts_with(View bytes, View start);
[[nodiscard]] bool all_bytes(View bytes, std::byte value);  ///< true for an empty view
[[nodiscard]] View as_view(std::string_view text);
[[nodiscard]] std::string_view as_text(View bytes);
[[nodiscard]] Bytes to_bytes(View bytes);
[[nodiscard]] Bytes to_bytes(std::string_view text);
void append(Bytes& out, View bytes);
void append(Bytes& out, std::string_view text);
[[nodiscard]] std::string hex(View bytes);                 ///< lower case, no separators
[[nodiscard]] std::string hex_value(std::uint64_t value);  ///< `0x…`
/// Text up to the first NUL, or the whole field: fixed-size fields are not always terminated.
[[nodiscard]] std::string_view until_nul(View field);

/// `value` rounded up to a multiple of `unit`; al(0, p) is 0. Precondition: unit > 0 and the result
/// fits, which holds for any value below 2^63 and unit up to 2^31.
[[nodiscard]] constexpr std::uint64_t align_up(std::uint64_t value, std::uint64_t unit) {
  return (value + unit - 1) / unit * unit;
}

/// `count` bytes at `offset` of `in`, or Truncated naming the field, both sizes and the offset.
[[nodiscard]] Result<View> slice(View in, std::uint64_t offset, std::uint64_t count,
                                 std::string_view field);

/// The byte orders, as `load`, `store` and the field tables name them.
inline constexpr auto LE = std::endian::little, BE = std::endian::big;

template <std::unsigned_integral T, std::endian E>
[[nodiscard]] T load(const std::byte* at) {
  T value;
  std::memcpy(&value, at, sizeof value);
  if constexpr (E != std::endian::native && sizeof(T) > 1) {
    if constexpr (sizeof(T) == 2) value = __builtin_bswap16(value);
    if constexpr (sizeof(T) == 4) value = __builtin_bswap32(value);
    if constexpr (sizeof(T) == 8) value = __builtin_bswap64(value);
  }
  return value;
}

template <std::unsigned_integral T, std::endian E>
void store(std::byte* at, T value) {
  T swapped = value;
  if constexpr (E != std::endian::native)
    swapped = load<T, E>(reinterpret_cast<std::byte*>(&value));
  std::memcpy(at, &swapped, sizeof swapped);
}

/// Reads fields one after the other; every read is checked and names its field.
template <std::endian E>
class Reader {
 public:
  /// @param base  offset of `in` in the file that errors shall name
  explicit Reader(View in, std::uint64_t base = 0) : in_(in), base_(base) {}

  template <std::unsigned_integral T>
  [[nodiscard]] Result<T> get(std::string_view field) {
    WEXLO_TRY(const View bytes, take(sizeof(T), field));
    return load<T, E>(bytes.data());
  }
  [[nodiscard]] Result<View> take(std::uint64_t count, std::string_view field) {
    auto part = slice(in_, at_, count, field);
    if (!part) return fail(at_base(std::move(part).error(), base_));
    at_ += count;
    return part;
  }
  [[nodiscard]] std::uint64_t position() const { return at_; }
  [[nodiscard]] std::uint64_t remaining() const { return in_.size() - at_; }

 private:
  View in_;
  std::uint64_t base_;
  std::uint64_t at_ = 0;
};
using LeReader = Reader<std::endian::little>;
using BeReader = Reader<std::endian::big>;

/// Appends fields to a growing buffer.
template <std::endian E>
class Writer {
 public:
  explicit Writer(Bytes& out) : out_(out) {}
  template <std::unsigned_integral T>
  void put(T value) {
    std::byte raw[sizeof(T)];
    store<T, E>(raw, value);
    out_.insert(out_.end(), raw, raw + sizeof(T));
  }
  void put(View bytes) { append(out_, bytes); }
  /// `text` in a field of `size` bytes, zero filled; a longer text is cut.
  void text(std::string_view text, std::size_t size) {
    append(out_, text.substr(0, size));
    out_.resize(out_.size() + size - std::min(size, text.size()));
  }
  void zeros(std::size_t count) { out_.resize(out_.size() + count); }
  /// Zero bytes up to the next multiple of `unit` of the whole buffer.
  void align(std::size_t unit) { out_.resize(align_up(out_.size(), unit)); }

 private:
  Bytes& out_;
};
using LeWriter = Writer<std::endian::little>;
using BeWriter = Writer<std::endian::big>;

}  // namespace wexlo
