#pragma once
/// Invented content that is the same in every run: bytes that compress about as real ones do.

#include <string>

#include "base/bytes.hpp"

namespace wexlo::demo {

inline constexpr std::size_t kMiB = 1u << 20;
inline constexpr std::size_t kBlock = 4096;

/// How large a phone's firmware is: its kernels, programs, partitions.
enum class FirmwareSize {
  Usual,  ///< the demo's
  Small,  ///< the same parts with less in them, for tests
};

/// Bytes that look like machine code to a compressor: a few words occur often, some are random.
[[nodiscard]] Bytes code_like(std::uint64_t seed, std::size_t size);
[[nodiscard]] Bytes random_bytes(std::uint64_t seed, std::size_t size);

/// A raw arm64 kernel image: its header, a version banner inside, filler.
[[nodiscard]] Bytes kernel(std::size_t size,
                           const std::string& release = "6.12.30-android16-5-00042-g6b6f7276616c");
/// An ELF file of a 64-bit arm program, as far as its header goes; it cannot run.
[[nodiscard]] Bytes elf_like(std::uint64_t seed, std::size_t size);
/// One flattened device tree with a model and a compatible string.
[[nodiscard]] Bytes device_tree(const std::string& model, const std::string& compatible);

}  // namespace wexlo::demo
