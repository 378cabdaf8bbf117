#pragma once
/// Payloads and zips, put together by hand: the protocol-buffer encoding is written out here.

#include <optional>

#include "support/bytes.hpp"

namespace wexlo::test {

/// Fields of the protocol-buffer encoding: a number, and bytes (text, a message).
[[nodiscard]] std::string proto_number(unsigned id, std::uint64_t value);
[[nodiscard]] std::string proto_bytes(unsigned id, const std::string& value);

struct Operation {
  std::uint32_t type = 0;
  std::string data;  ///< as stored
  std::uint64_t start = 0, blocks = 1;
  std::optional<std::string> sha256;                      ///< instead of the true one; empty: none
  std::optional<std::uint64_t> data_offset, data_length;  ///< instead of the true ones
  std::vector<std::pair<std::uint64_t, std::uint64_t>> more{};     ///< further destination extents
  std::vector<std::pair<std::uint64_t, std::uint64_t>> sources{};  ///< extents of the old image
  std::string source_sha256{};                                     ///< raw; empty: none
};

struct Partition {
  std::string name;
  std::string image;  ///< what shall come out
  std::vector<Operation> operations;
  std::optional<std::uint64_t> size;
  std::optional<std::string> sha256;
  std::string old_image{};  ///< its size and digest are promised, when not empty
  struct Generated {
    std::uint64_t data_blocks = 0, tree_blocks = 0, fec_blocks = 0;
    std::string salt, algorithm = "sha256";
  };
  std::optional<Generated> generated{};
};

struct PayloadBytes {
  std::vector<Partition> partitions;
  std::uint64_t version = 2;
  std::optional<std::uint64_t> manifest_size;
  std::uint32_t block_size = 4096;
  std::string signature;  ///< metadata signature bytes
  std::vector<std::pair<std::string, std::vector<std::string>>> groups{};
  [[nodiscard]] std::string done() const;
};

/// A partition cut into operations of one kind, `blocks` blocks each.
[[nodiscard]] Partition partition_of(const std::string& name, const std::string& image,
                                     std::uint32_t type, std::size_t blocks = 4);

struct Member {
  std::string name, data;
  bool deflated = false;
  bool data_descriptor_flag = false;
  std::string extra{};  ///< extra field of the local header only
  bool lzma = false;    ///< packed by method 14
};
/// A zip with a central directory, and a comment behind it.
[[nodiscard]] std::string zip(const std::vector<Member>& members, const std::string& comment = "");

}  // namespace wexlo::test
