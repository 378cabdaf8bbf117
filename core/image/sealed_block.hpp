#pragma once
/// A maker's sealed block: 512 bytes with a SHA-256 digest and a length of the bytes that it
/// covers. It stands before an image (prefix.hpp) or at a file's end: docs/formats/wrappings.md.

#include <optional>

#include "base/bytes.hpp"

namespace wexlo::sealed_block {

inline constexpr std::size_t kSize = 512;  ///< bytes; it begins at a multiple of that
inline constexpr std::string_view kMagic{"DHTB\x01\0\0\0", 8};

/// Does one begin here, whole?
[[nodiscard]] bool begins(View bytes);
/// Bytes that it says it covers. @param block  at least kSize bytes
[[nodiscard]] std::uint32_t covered_size(View block);
/// Is its digest that of the first covered_size() bytes of `covered`? false also where there are
/// fewer.
[[nodiscard]] bool matches(View block, View covered);
/// Writes length and digest for all of `covered`.
void renew(MutableView block, View covered);

/// A block behind what it covers.
struct Behind {
  std::uint64_t offset = 0;   ///< of the block, from the file's start
  std::uint64_t begin = 0;    ///< what it covers, from the file's start
  std::uint64_t covered = 0;  ///< bytes from there
  bool valid = false;         ///< its digest matches
};
/// The first one in file[from..]. nullopt: there is none.
[[nodiscard]] std::optional<Behind> find(View file, std::uint64_t from);

/// Makes a block behind a changed image valid. Precondition: the stock image's was; of one that was
/// not nobody knows what it covers.
/// @param stock  the block as the stock image has it; it stands at `offset` of `file` now
/// @param moved  bytes by which the end of the image's content moved
void renew_behind(MutableView file, std::uint64_t offset, const Behind& stock, std::int64_t moved);

}  // namespace wexlo::sealed_block
