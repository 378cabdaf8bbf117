#include "base/bytes.hpp"

#include <sys/mman.h>

#include <cstdlib>
#include <new>

#include <fmt/format.h>

#include <algorithm>

namespace wexlo {

RawBuffer::~RawBuffer() {
  std::free(data_);
}

void RawBuffer::resize(std::size_t size) {
  void* moved = std::realloc(data_, size == 0 ? 1 : size);
  if (moved == nullptr) throw OutOfMemory(size);
  data_ = static_cast<std::byte*>(moved);
  size_ = size;
}

void RawBuffer::resize_zeroed(std::size_t size) {
  if (size_ == 0 && size > 0) {
    std::free(data_);
    data_ = static_cast<std::byte*>(std::calloc(size, 1));
    if (data_ == nullptr) throw OutOfMemory(size);
    size_ = size;
    return;
  }
  const std::size_t was = size_;
  resize(size);
  if (size > was) std::fill(data_ + was, data_ + size, std::byte{0});
}

void give_back_zeros(const Blob& bytes) {
  constexpr std::size_t kPage = 64u << 10;  // a multiple of any system's page
  constexpr std::size_t kWorthIt = 1u << 20;
  if (bytes.size() < kWorthIt) return;
  const auto address = reinterpret_cast<std::uintptr_t>(bytes.view().data());
  std::size_t at = static_cast<std::size_t>(align_up(address, kPage) - address), zeros = at;
  const auto give = [&] {
    if (at == zeros) return;
    auto* const begin = const_cast<std::byte*>(bytes.view().data()) + zeros;
    ::madvise(begin, at - zeros, MADV_DONTNEED);  // refused: they just stay
  };
  for (; at + kPage <= bytes.size(); at += kPage) {
    if (all_bytes(bytes.view().subspan(at, kPage), std::byte{0})) continue;
    give();
    zeros = at + kPage;
  }
  give();
}

Blob RawBuffer::release(Hold hold) {
  Blob out;
  out.view_ = {data_, size_};
  // A deleter has to be copyable, a hold is not.
  const auto held = std::make_shared<Hold>(std::move(hold));
  out.owner_ = std::shared_ptr<const void>(
      std::exchange(data_, nullptr), [held](const void* at) { std::free(const_cast<void*>(at)); });
  size_ = 0;
  return out;
}

bool equal(View a, View b) {
  return a.size() == b.size() && (a.empty() || std::memcmp(a.data(), b.data(), a.size()) == 0);
}

bool starts_with(View bytes, View start) {
  return start.size() <= bytes.size() && equal(bytes.first(start.size()), start);
}

bool all_bytes(View bytes, std::byte value) {
  if (bytes.empty()) return true;
  // Comparing the range with itself shifted by one lets memcmp do the walk.
  return bytes[0] == value && std::memcmp(bytes.data(), bytes.data() + 1, bytes.size() - 1) == 0;
}

View as_view(std::string_view text) {
  return std::as_bytes(std::span(text));
}

std::string_view as_text(View bytes) {
  return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
}

Bytes to_bytes(View bytes) {
  return {bytes.begin(), bytes.end()};
}

Bytes to_bytes(std::string_view text) {
  return to_bytes(as_view(text));
}

void append(Bytes& out, View bytes) {
  out.insert(out.end(), bytes.begin(), bytes.end());
}

void append(Bytes& out, std::string_view text) {
  append(out, as_view(text));
}

std::string hex(View bytes) {
  static constexpr std::string_view digits = "0123456789abcdef";
  std::string out;
  out.reserve(bytes.size() * 2);
  for (const std::byte b : bytes) {
    out += digits[std::to_integer<unsigned>(b) >> 4];
    out += digits[std::to_integer<unsigned>(b) & 15];
  }
  return out;
}

std::string hex_value(std::uint64_t value) {
  return fmt::format("0x{:x}", value);
}

std::string_view until_nul(View field) {
  const auto text = as_text(field);
  return text.substr(0, std::min(text.find('\0'), text.size()));
}

Result<View> slice(View in, std::uint64_t offset, std::uint64_t count, std::string_view field) {
  // Compared with what is left: `offset + count` may wrap, both may come from the file.
  const std::uint64_t left = offset <= in.size() ? in.size() - offset : 0;
  if (count > left)
    return fail({.code = ErrorCode::Truncated,
                 .message = fmt::format("{} runs past the end", field),
                 .offset = offset,
                 .expected = fmt::format("{} bytes", count),
                 .found = fmt::format("{} bytes", left),
                 .hint = "The file may be cut short: compare its size with the source's."});
  return in.subspan(static_cast<std::size_t>(offset), static_cast<std::size_t>(count));
}

}  // namespace wexlo
