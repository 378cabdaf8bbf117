#pragma once
/// CRC-32 (the polynomial of zlib, zip and GPT), also over zeros that nobody has to look at.

#include "base/source.hpp"

namespace wexlo {

[[nodiscard]] std::uint32_t crc32_of(View bytes, std::uint32_t before = 0);
/// As if `count` zero bytes followed; takes no longer for many.
[[nodiscard]] std::uint32_t crc32_zeros(std::uint64_t count, std::uint32_t before);

/// Holds all bytes of a source against one promised sum.
class CrcChecker final : public Checker {
 public:
  CrcChecker(std::uint32_t promised, std::string file)
      : promised_(promised), file_(std::move(file)) {}
  void data(View bytes) override { sum_ = crc32_of(bytes, sum_); }
  void zeros(std::uint64_t count) override { sum_ = crc32_zeros(count, sum_); }
  Status finish() override;

 private:
  std::uint32_t promised_, sum_ = 0;
  std::string file_;
};

}  // namespace wexlo
