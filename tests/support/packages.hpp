#pragma once
/// Makers' packages put together by hand.

#include "support/payload.hpp"

namespace wexlo::test {

/// CRC-16 bit by bit: polynomial 0x1021 with the lowest bit first, start and end 0xFFFF.
[[nodiscard]] unsigned crc16_by_hand(const std::string& data);

/// One record: header, table of sums, data; not padded.
struct RecordBytes {
  std::string name, data;
  unsigned block = 4096;
  bool sums = true;
  std::optional<std::uint32_t> header_size{}, data_size{};  ///< instead of the true ones
  std::optional<std::uint32_t> bad_block{};                 ///< its sum is wrong
  [[nodiscard]] std::string done() const;
};
/// Records padded to 4 bytes. @param lead  92 zero bytes in front
[[nodiscard]] std::string record_container(const std::vector<RecordBytes>& records,
                                           bool lead = true);

struct PackedFile {
  std::string id, name, data;
  std::optional<std::uint32_t> row_size{};
  std::optional<std::uint64_t> offset{}, size{};  ///< instead of the true ones
};
struct DownloadBytes {
  std::vector<PackedFile> files;
  std::string version = "BP_R1.0.0", product = "vernier", build = "KT2-1.0";
  std::optional<std::uint32_t> count{}, list{};
  std::optional<std::uint64_t> size{};
  std::optional<unsigned> header_crc{};
  [[nodiscard]] std::string done() const;
};

}  // namespace wexlo::test
