#pragma once
/// Writers for verified-boot structs, signed with the demo's own key (which protects nothing).

#include <string>
#include <vector>

#include "base/bytes.hpp"

namespace wexlo::demo {

[[nodiscard]] Bytes property_descriptor(const std::string& key, const std::string& value);
[[nodiscard]] Bytes hash_descriptor(const std::string& partition, View image, View salt);
[[nodiscard]] Bytes chain_descriptor(const std::string& partition, std::uint32_t location);

/// A hash tree over `image` (SHA-256, blocks of 4096), and the descriptor that names it.
struct HashTree {
  Bytes tree, descriptor;
};
[[nodiscard]] HashTree hash_tree(const std::string& partition, View image, View salt);

enum class Signing { None, DemoKey };  ///< DemoKey: algorithm 1, SHA-256 with RSA 2048

[[nodiscard]] Bytes vbmeta_struct(const std::vector<Bytes>& descriptors, Signing signing);

/// `image` with `vbmeta` and a footer behind it, as large as its partition.
/// @param tree  a hash tree that stands between image and struct; empty for hash footers
[[nodiscard]] Bytes with_footer(View image, View tree, View vbmeta, std::size_t partition_size);

/// An image with a hash footer, whose unsigned struct tells its build; and the descriptor for
/// vbmeta.
struct HashedImage {
  Bytes image, descriptor;
};
struct BuildName {
  std::string fingerprint, patch_level;
};
[[nodiscard]] HashedImage hashed_image(const std::string& name, View image, View salt,
                                       const BuildName& build, std::size_t partition_size);

}  // namespace wexlo::demo
