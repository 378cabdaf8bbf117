#include "support/packages.hpp"

namespace wexlo::test {

unsigned crc16_by_hand(const std::string& data) {
  unsigned sum = 0xFFFF;
  for (const char one : data) {
    sum ^= static_cast<unsigned char>(one);
    for (int bit = 0; bit < 8; ++bit)
      sum = (sum & 1) != 0 ? sum >> 1 ^ 0x8408 : sum >> 1;
  }
  return sum ^ 0xFFFF;
}

std::string RecordBytes::done() const {
  std::string table;
  if (sums)
    for (std::size_t at = 0; at < data.size(); at += block) {
      const unsigned sum = crc16_by_hand(data.substr(at, block));
      table += le16(bad_block && *bad_block == at / block ? sum ^ 0x55 : sum);
    }
  const auto header = static_cast<std::uint32_t>(98 + table.size());
  return std::string("\x55\xAA\x5A\xA5") + le32(header_size.value_or(header)) + le32(1) +
         field("HW8\xFF", 8) + le32(0) + le32(data_size.value_or(size32(data))) +
         field("2026.09.05", 16) + field("11.22.33", 16) + field(name, 16) + std::string(16, '\0') +
         le16(0) + le16(block) + le16(0) + table + data;
}

std::string record_container(const std::vector<RecordBytes>& records, bool lead) {
  std::string out(lead ? 92 : 0, '\0');
  for (const RecordBytes& record : records)
    out += padded(record.done(), 4), out = padded(out, 4);
  return out;
}

namespace {

std::string wide(const std::string& text, std::size_t units) {
  std::string out;
  for (const char one : text)
    out += le16(static_cast<unsigned char>(one));
  return field(out, 2 * units);
}

}  // namespace

std::string DownloadBytes::done() const {
  constexpr std::uint64_t kHeader = 2124, kRow = 2580;
  std::string rows, bodies;
  std::uint64_t at = kHeader + kRow * files.size();
  for (const PackedFile& file : files) {
    const std::uint64_t from = file.offset.value_or(at),
                        bytes = file.size.value_or(file.data.size());
    const auto high = [](std::uint64_t value) {
      return le32(static_cast<std::uint32_t>(value >> 32));
    };
    const auto low = [](std::uint64_t value) { return le32(static_cast<std::uint32_t>(value)); };
    rows += field(le32(file.row_size.value_or(kRow)) + wide(file.id, 256) + wide(file.name, 256) +
                      wide("", 252) + high(bytes) + high(from) + low(bytes) + le32(1) + le32(0) +
                      low(from) + le32(1),
                  kRow);
    bodies += file.data;
    at += file.data.size();
  }
  const std::uint64_t total = size.value_or(at);
  std::string header =
      wide(version, 22) + le32(static_cast<std::uint32_t>(total >> 32)) +
      le32(static_cast<std::uint32_t>(total)) + wide(product, 256) + wide(build, 256) +
      le32(count.value_or(static_cast<std::uint32_t>(files.size()))) + le32(list.value_or(kHeader));
  header = field(header, 2116) + le32(0xFFFAFFFA);
  header += le16(header_crc.value_or(crc16_by_hand(header))) + le16(0);
  return header + rows + bodies;
}

}  // namespace wexlo::test
