/// Reed-Solomon codes RS(255, 255 - roots) over GF(2^8), polynomial 0x11D, first root 1. A codeword
/// takes one byte of each of 255 - roots places that lie far apart, so that a bad block costs each
/// of many codewords one byte.

#include <algorithm>
#include <array>
#include <vector>

#include "verified/hash_tree.hpp"

namespace wexlo::verified {
namespace {

constexpr unsigned kPolynomial = 0x11D;
/// Codewords that are counted at once: their parity bytes and one row of data stay in the cache.
constexpr std::size_t kWide = 16u << 10;

/// Powers and logarithms of the field.
struct GaloisField {
  std::array<std::uint8_t, 512> power{};
  std::array<std::uint8_t, 256> log{};
  constexpr GaloisField() {
    unsigned value = 1;
    for (unsigned i = 0; i < 255; ++i) {
      power[i] = power[i + 255] = static_cast<std::uint8_t>(value);
      log[value] = static_cast<std::uint8_t>(i);
      value <<= 1;
      if (value & 0x100) value ^= kPolynomial;
    }
  }
  constexpr std::uint8_t times(std::uint8_t a, std::uint8_t b) const {
    return a == 0 || b == 0 ? std::uint8_t{0} : power[log[a] + log[b]];
  }
};
constexpr GaloisField kField;

/// The generator's coefficients, highest first, without the leading 1.
std::vector<std::uint8_t> generator(unsigned roots) {
  std::vector<std::uint8_t> out{1};
  for (unsigned i = 0; i < roots; ++i) {
    std::vector<std::uint8_t> next(out.size() + 1);
    for (std::size_t j = 0; j < out.size(); ++j) {
      next[j] ^= out[j];
      next[j + 1] ^= kField.times(out[j], kField.power[i]);
    }
    out = std::move(next);
  }
  out.erase(out.begin());
  return out;
}

/// Divides many codewords at once. Their parity is kept in rows, one a root.
class Encoder {
 public:
  explicit Encoder(unsigned roots) : roots_(roots), tables_(roots) {
    const auto coefficients = generator(roots);
    for (unsigned r = 0; r < roots; ++r)
      for (unsigned v = 0; v < 256; ++v)
        tables_[r][v] = kField.times(static_cast<std::uint8_t>(v), coefficients[r]);
  }

  /// @param parity  roots_ rows of data.size() bytes; `first` is the row of the highest power
  void add(View data, std::vector<Bytes>& parity, std::size_t& first) const {
    const std::size_t count = data.size();
    Bytes& out = parity[first];  // is shifted out, and becomes the last row
    for (std::size_t c = 0; c < count; ++c)
      out[c] ^= data[c];
    for (unsigned r = 0; r + 1 < roots_; ++r) {
      const auto& table = tables_[r];
      Bytes& row = parity[(first + 1 + r) % roots_];
      for (std::size_t c = 0; c < count; ++c)
        row[c] ^= static_cast<std::byte>(table[std::to_integer<std::uint8_t>(out[c])]);
    }
    const auto& table = tables_[roots_ - 1];
    for (std::size_t c = 0; c < count; ++c)
      out[c] = static_cast<std::byte>(table[std::to_integer<std::uint8_t>(out[c])]);
    first = (first + 1) % roots_;
  }

 private:
  unsigned roots_;
  std::vector<std::array<std::uint8_t, 256>> tables_;
};

std::uint64_t rounds(std::uint64_t size, unsigned roots) {
  const std::uint64_t blocks = (size + kHashBlock - 1) / kHashBlock, data = kCodeword - roots;
  return (blocks + data - 1) / data;
}

std::uint8_t inverse(std::uint8_t a) {
  return kField.power[255 - kField.log[a]];
}

/// The sum of a word's bytes, each times a power of the root alpha^i: 0 for a whole codeword.
std::uint8_t syndrome(std::span<const std::uint8_t, kCodeword> word, std::size_t i) {
  std::uint8_t sum = 0;
  const std::uint8_t root = kField.power[i];
  for (const std::uint8_t byte : word)
    sum = static_cast<std::uint8_t>(kField.times(sum, root) ^ byte);
  return sum;
}

}  // namespace

void fill_erasures(std::span<std::uint8_t, kCodeword> word, std::span<const std::size_t> erased) {
  const std::size_t count = erased.size();
  for (const std::size_t at : erased)
    word[at] = 0;
  // As many equations as unknowns: sum of value_k * X_k^i is the i-th syndrome.
  std::vector<std::vector<std::uint8_t>> rows(count, std::vector<std::uint8_t>(count + 1));
  for (std::size_t i = 0; i < count; ++i) {
    for (std::size_t k = 0; k < count; ++k)
      rows[i][k] = kField.power[(kCodeword - 1 - erased[k]) * i % 255];
    rows[i][count] = syndrome(word, i);
  }
  for (std::size_t k = 0; k < count; ++k) {
    std::size_t pivot = k;
    while (rows[pivot][k] == 0)  // the places differ, so there is one
      ++pivot;
    std::swap(rows[k], rows[pivot]);
    const std::uint8_t factor = inverse(rows[k][k]);
    for (std::uint8_t& cell : rows[k])
      cell = kField.times(cell, factor);
    for (std::size_t i = 0; i < count; ++i) {
      if (i == k || rows[i][k] == 0) continue;
      const std::uint8_t times = rows[i][k];
      for (std::size_t c = k; c <= count; ++c)
        rows[i][c] ^= kField.times(times, rows[k][c]);
    }
  }
  for (std::size_t k = 0; k < count; ++k)
    word[erased[k]] = rows[k][count];
}

std::uint64_t fec_span(std::uint64_t size, unsigned roots) {
  return rounds(size, roots) * kHashBlock;
}

std::uint64_t fec_size(std::uint64_t size, unsigned roots) {
  return rounds(size, roots) * roots * kHashBlock;
}

Status build_fec(const ReadData& read, std::uint64_t size, unsigned roots,
                 const std::function<Status(std::uint64_t offset, View codes)>& take,
                 const Context& context) {
  const std::uint64_t span = rounds(size, roots) * kHashBlock;
  const Encoder encoder(roots);
  TaskGroup tasks(context);
  for (std::uint64_t begin = 0; begin < span; begin += kWide)
    tasks.submit(kWide * (roots + 2), [&, begin]() -> Status {
      const auto count = static_cast<std::size_t>(std::min<std::uint64_t>(kWide, span - begin));
      std::vector<Bytes> parity(roots, Bytes(count));
      std::size_t first = 0;
      Bytes row(count);
      for (unsigned j = 0; j < kCodeword - roots; ++j) {
        const std::uint64_t at = begin + j * span;
        const std::uint64_t left = at < size ? size - at : 0;
        const auto there = static_cast<std::size_t>(std::min<std::uint64_t>(count, left));
        if (there > 0) WEXLO_CHECK(read(at, MutableView(row).first(there)));
        std::fill(row.begin() + static_cast<std::ptrdiff_t>(there), row.end(), std::byte{0});
        encoder.add(row, parity, first);
      }
      Bytes codes(count * roots);
      for (unsigned r = 0; r < roots; ++r)
        for (std::size_t c = 0; c < count; ++c)
          codes[c * roots + r] = parity[(first + r) % roots][c];
      return take(begin * roots, codes);
    });
  return tasks.wait();
}

}  // namespace wexlo::verified
