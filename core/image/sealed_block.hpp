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

/// Makes the block behind a changed image valid, if the stock image's is: of one that is not nobody
/// knows what it covers. It stands as far from the file's end as in the stock image.
/// @param from   where it is looked for in `stock`
/// @param moved  bytes by which the end of the image's content moved
/// @return its offset in `file`; nullopt: there is none, or it was not valid
std::optional<std::uint64_t> renew_behind(MutableView file, View stock, std::uint64_t from,
                                          std::int64_t moved);

}  // namespace wexlo::sealed_block
