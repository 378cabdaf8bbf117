#pragma once
/// Verified-boot structs and footers, put together by hand.

#include "support/bytes.hpp"

namespace wexlo::test {

[[nodiscard]] std::string hash_descriptor(const std::string& partition, const std::string& image,
                                          const std::string& salt);
[[nodiscard]] std::string property_descriptor(const std::string& key, const std::string& value);
[[nodiscard]] std::string hashtree_descriptor(const std::string& partition);
[[nodiscard]] std::string chain_descriptor(const std::string& partition, std::uint32_t location,
                                           const std::string& key);
[[nodiscard]] std::string cmdline_descriptor(std::uint32_t flags, const std::string& text);
[[nodiscard]] std::string raw_descriptor(std::uint64_t tag, const std::string& body);

/// A struct; with `algorithm` 1 it has a hash and a signature of filler bytes.
[[nodiscard]] std::string vbmeta(const std::string& descriptors, std::uint32_t flags = 0,
                                 std::uint32_t algorithm = 0);

/// `image` with a hash footer at a partition's size.
[[nodiscard]] std::string with_footer(const std::string& image, const std::string& partition,
                                      std::size_t partition_size);

}  // namespace wexlo::test
