#include "base/crc16.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

namespace wexlo {
namespace {

constexpr std::array kCrcKinds{
    Crc16Kind{"x-25", 0x8408, 0xFFFF, 0xFFFF, true},
    Crc16Kind{"mcrf4xx", 0x8408, 0xFFFF, 0, true},
    Crc16Kind{"kermit", 0x8408, 0, 0, true},
    Crc16Kind{"arc", 0xA001, 0, 0, true},
    Crc16Kind{"modbus", 0xA001, 0xFFFF, 0, true},
    Crc16Kind{"usb", 0xA001, 0xFFFF, 0xFFFF, true},
    Crc16Kind{"ibm-3740", 0x1021, 0xFFFF, 0, false},
    Crc16Kind{"genibus", 0x1021, 0xFFFF, 0xFFFF, false},
    Crc16Kind{"xmodem", 0x1021, 0, 0, false},
};

using Table = std::array<std::uint16_t, 256>;

constexpr Table table_of(const Crc16Kind& kind) {
  Table out{};
  for (unsigned i = 0; i < out.size(); ++i) {
    unsigned value = kind.reflected ? i : i << 8;
    for (int bit = 0; bit < 8; ++bit) {
      if (kind.reflected)
        value = (value & 1) != 0 ? value >> 1 ^ kind.polynomial : value >> 1;
      else
        value = (value & 0x8000) != 0 ? value << 1 ^ kind.polynomial : value << 1;
    }
    out[i] = static_cast<std::uint16_t>(value);
  }
  return out;
}

constexpr auto kTables = [] {
  std::array<Table, kCrcKinds.size()> out{};
  for (std::size_t i = 0; i < kCrcKinds.size(); ++i)
    out[i] = table_of(kCrcKinds[i]);
  return out;
}();

std::uint16_t swapped(std::uint16_t value) {
  return static_cast<std::uint16_t>(value << 8 | value >> 8);
}

class BlockChecker final : public Checker {
 public:
  BlockChecker(std::uint32_t block, std::shared_ptr<const Bytes> sums, std::string file)
      : size_(block), sums_(std::move(sums)), file_(std::move(file)) {
    block_.reserve(size_);
  }
  void data(View bytes) override {
    while (!bytes.empty()) {
      const std::size_t part = std::min(bytes.size(), size_ - block_.size());
      block_.insert(block_.end(), bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(part));
      bytes = bytes.subspan(part);
      if (block_.size() == size_) end_of_block();
    }
  }
  void zeros(std::uint64_t count) override {
    static constexpr std::array<std::byte, 4096> kZeros{};
    for (; count > 0;) {
      const auto part = static_cast<std::size_t>(std::min<std::uint64_t>(count, kZeros.size()));
      data(View(kZeros).first(part));
      count -= part;
    }
  }
  Status finish() override {
    if (!block_.empty()) end_of_block();
    if (!bad_) return {};
    return fail({.code = ErrorCode::DigestMismatch,
                 .message = "a block does not have the CRC-16 that its container promises",
                 .file = file_,
                 .offset = bad_->at,
                 .expected = fmt::format("{:04x}", bad_->promised),
                 .found = bad_->found,
                 .hint = "The package is damaged: fetch it again."});
  }

 private:
  void end_of_block() {
    const auto stored = load<std::uint16_t, std::endian::little>(sums_->data() + 2 * count_);
    if (!match_ && !bad_) match_ = crc16_match(block_, stored);
    const std::uint64_t at = std::uint64_t{count_++} * size_;
    if (match_) {
      const std::uint16_t found = crc16_of(block_, *match_->kind),
                          promised = match_->swapped ? swapped(stored) : stored;
      if (found != promised && !bad_) bad_ = Bad{at, promised, fmt::format("{:04x}", found)};
    } else if (!bad_) {
      bad_ = Bad{at, stored, "another by every kind of CRC-16 that is known"};
    }
    block_.clear();
  }

  struct Bad {
    std::uint64_t at = 0;  ///< of the block
    std::uint16_t promised = 0;
    std::string found;
  };

  std::size_t size_;  ///< of a block, bytes
  std::shared_ptr<const Bytes> sums_;
  std::string file_;
  Bytes block_;
  std::size_t count_ = 0;  ///< blocks so far
  std::optional<Crc16Match> match_;
  std::optional<Bad> bad_;  ///< the first block that is damaged
};

}  // namespace

std::span<const Crc16Kind> crc16_kinds() {
  return kCrcKinds;
}

std::uint16_t crc16_of(View bytes, const Crc16Kind& kind) {
  const Table& table = kTables[static_cast<std::size_t>(&kind - kCrcKinds.data())];
  unsigned sum = kind.start;
  for (const std::byte byte : bytes) {
    const auto value = std::to_integer<unsigned>(byte);
    sum = kind.reflected ? sum >> 8 ^ table[(sum ^ value) & 0xFF]
                         : (sum << 8 & 0xFFFF) ^ table[(sum >> 8 ^ value) & 0xFF];
  }
  return static_cast<std::uint16_t>(sum ^ kind.end);
}

std::optional<Crc16Match> crc16_match(View bytes, std::uint16_t stored) {
  for (const Crc16Kind& kind : kCrcKinds) {
    const std::uint16_t sum = crc16_of(bytes, kind);
    if (sum == stored) return Crc16Match{&kind, false};
    if (swapped(sum) == stored) return Crc16Match{&kind, true};
  }
  return std::nullopt;
}

SourcePtr with_block_crcs(SourcePtr source, std::uint32_t block, Bytes sums) {
  const bool given = std::ranges::any_of(sums, [](std::byte one) { return one != std::byte{0}; });
  if (!given) return source;
  const auto kept = std::make_shared<const Bytes>(std::move(sums));
  return with_check(source, "crc-16", [kept, block, name = source->name()] {
    return std::make_unique<BlockChecker>(block, kept, name);
  });
}

}  // namespace wexlo
