#pragma once
/// Memory: what a run may hold of decoded content, and what is said when the system has no more.

#include <atomic>
#include <cstdint>
#include <memory>
#include <new>
#include <string_view>
#include <utility>

#include "base/error.hpp"

namespace wexlo {

/// An allocation that failed, and how large it was. Containers throw the plain std::bad_alloc: of
/// those the size is not known.
class OutOfMemory final : public std::bad_alloc {
 public:
  explicit OutOfMemory(std::uint64_t bytes) : bytes_(bytes) {}
  [[nodiscard]] const char* what() const noexcept override { return "out of memory"; }
  [[nodiscard]] std::uint64_t bytes() const { return bytes_; }

 private:
  std::uint64_t bytes_;
};

/// NoMemory: `not enough memory for WHAT: expected 12 bytes more`.
/// @param what  who asked for it: "decoding lz4-legacy", a file's name, a command
[[nodiscard]] Error no_memory_error(const std::bad_alloc& why, std::string_view what);

/// Bytes of decoded content that are held at the same time, by everything that shares this count.
/// A stream of a few kilobytes may decode to gigabytes, and one image has many streams: each of
/// them alone may be within its bound. Safe to use from several threads.
class HeldBytes {
 public:
  static constexpr std::uint64_t kUsual = 512u << 20;  ///< several times what stock images need
  explicit HeldBytes(std::uint64_t bound = kUsual) : bound_(bound) {}
  [[nodiscard]] bool take(std::uint64_t bytes) {
    std::uint64_t now = now_.load();
    do {
      if (bytes > bound_ || now > bound_ - bytes) return false;
    } while (!now_.compare_exchange_weak(now, now + bytes));
    return true;
  }
  void give_back(std::uint64_t bytes) { now_ -= bytes; }
  [[nodiscard]] std::uint64_t bound() const { return bound_; }
  [[nodiscard]] std::uint64_t now() const { return now_; }

 private:
  std::uint64_t bound_;
  std::atomic<std::uint64_t> now_ = 0;
};
using HeldBytesPtr = std::shared_ptr<HeldBytes>;

/// A share of HeldBytes: given back when its owner is gone.
class Hold {
 public:
  explicit Hold(HeldBytesPtr held = nullptr) : held_(std::move(held)) {}
  Hold(Hold&& other) noexcept
      : held_(std::move(other.held_)), bytes_(std::exchange(other.bytes_, 0)) {}
  Hold& operator=(Hold&&) = delete;
  ~Hold() {
    if (held_) held_->give_back(bytes_);
  }
  /// More, or less, than it has. false: that would be more than all may have; it keeps what it has.
  [[nodiscard]] bool resize(std::uint64_t bytes) {
    if (!held_) return true;
    if (bytes > bytes_ && !held_->take(bytes - bytes_)) return false;
    if (bytes < bytes_) held_->give_back(bytes_ - bytes);
    bytes_ = bytes;
    return true;
  }

 private:
  HeldBytesPtr held_;
  std::uint64_t bytes_ = 0;
};

}  // namespace wexlo
