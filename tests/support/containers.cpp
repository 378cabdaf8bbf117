#include "support/containers.hpp"

#include <algorithm>
#include <cstdio>

namespace wexlo::test {
namespace {

void put(std::string& into, std::size_t at, const std::string& bytes) {
  into.replace(at, bytes.size(), bytes);
}

}  // namespace

std::uint32_t crc32_by_hand(const std::string& data) {
  std::uint32_t crc = ~0u;
  for (const unsigned char c : data) {
    crc ^= c;
    for (int bit = 0; bit < 8; ++bit)
      crc = crc >> 1 ^ (crc & 1 ? 0xEDB88320u : 0u);
  }
  return ~crc;
}

SparseBytes& SparseBytes::raw(const std::string& data) {
  chunks.push_back({0xCAC1, static_cast<std::uint32_t>(data.size() / block), data, {}});
  return *this;
}
SparseBytes& SparseBytes::fill(std::uint32_t blocks, const std::string& word) {
  chunks.push_back({0xCAC2, blocks, word, {}});
  return *this;
}
SparseBytes& SparseBytes::skip(std::uint32_t blocks) {
  chunks.push_back({0xCAC3, blocks, "", {}});
  return *this;
}
SparseBytes& SparseBytes::crc(std::uint32_t value, bool counted) {
  chunks.push_back({0xCAC4, 0, counted ? le32(value) : "", {}});
  return *this;
}

std::string SparseBytes::done() const {
  std::uint32_t blocks = 0;
  std::string body;
  for (const SparseChunk& chunk : chunks) {
    blocks += chunk.blocks;
    const auto total = static_cast<std::uint32_t>(chunk_header + chunk.data.size());
    std::string head =
        le16(chunk.type) + le16(0) + le32(chunk.blocks) + le32(chunk.total_size.value_or(total));
    head.resize(chunk_header);
    body += head + chunk.data;
  }
  std::string out = le32(0xED26FF3A) + le16(major) + le16(0) + le16(header) + le16(chunk_header) +
                    le32(block) + le32(total_blocks.value_or(blocks)) +
                    le32(total_chunks.value_or(static_cast<std::uint32_t>(chunks.size()))) +
                    le32(checksum);
  out.resize(header);
  return out + body;
}

namespace {

std::string super_geometry(const SuperBytes& of) {
  const std::string head = le32(0x616C4467) + le32(52),
                    rest = le32(of.metadata_size) + le32(of.slots) + le32(4096);
  return padded(head + sha256(head + std::string(32, '\0') + rest) + rest, 4096);
}

std::string super_metadata(const SuperBytes& of) {
  std::string partitions, extents, groups, devices;
  std::uint32_t index = 0;
  for (const SuperPartition& one : of.partitions) {
    partitions += field(one.name, 36) + le32(one.attributes) + le32(index) +
                  le32(static_cast<std::uint32_t>(one.extents.size())) + le32(0);
    for (const SuperExtent& extent : one.extents)
      extents += le64(extent.sectors) + le32(extent.type) + le64(extent.at) + le32(extent.device);
    index += static_cast<std::uint32_t>(one.extents.size());
  }
  groups = field(of.group, 36) + le32(0) + le64(of.group_limit.value_or(of.size));
  for (const std::string& name : of.devices)
    devices += le64(64) + le32(4096) + le32(0) + le64(of.size) + field(name, 36) + le32(0);
  const std::string tables = partitions + extents + groups + devices;
  const unsigned header = of.minor >= 2 ? 256 : 128;
  std::string out = le32(0x414C5030) + le16(of.major) + le16(of.minor) + le32(header) +
                    std::string(32, '\0') + le32(static_cast<std::uint32_t>(tables.size())) +
                    sha256(tables);
  std::uint32_t at = 0;
  for (const auto& [table, entry] :
       {std::pair{&partitions, 52u}, {&extents, 24u}, {&groups, 48u}, {&devices, 64u}}) {
    out += le32(at) + le32(static_cast<std::uint32_t>(table->size() / entry)) + le32(entry);
    at += static_cast<std::uint32_t>(table->size());
  }
  out.resize(header);
  put(out, 12, sha256(out));
  return padded(out + tables, of.metadata_size);
}

}  // namespace

std::string SuperBytes::done() const {
  std::string out(4096, '\0');
  out += super_geometry(*this) + super_geometry(*this);
  for (std::uint32_t i = 0; i < 2 * slots; ++i)
    out += super_metadata(*this);
  out.resize(std::max<std::size_t>(out.size(), size));
  return out;
}

std::string SuperBytes::empty() const {
  return super_geometry(*this) + super_metadata(*this);
}

std::string gpt_dump(const std::vector<GptEntry>& entries, std::size_t sector,
                     std::uint64_t sectors) {
  std::string table;
  for (const GptEntry& one : entries) {
    std::string name;
    for (const char c : one.name)
      name += std::string(1, c) + '\0';
    table += std::string(16, 'T') + std::string(16, 'U') + le64(one.first) + le64(one.last) +
             le64(0) + field(name, 72);
  }
  table.resize(128 * 128);
  const std::uint64_t table_sectors = table.size() / sector;
  const auto header = [&](std::uint64_t own, std::uint64_t other, std::uint64_t at) {
    std::string out = "EFI PART" + le32(0x10000) + le32(92) + le32(0) + le32(0) + le64(own) +
                      le64(other) + le64(2 + table_sectors) + le64(sectors - table_sectors - 2) +
                      std::string(16, 'D') + le64(at) + le32(128) + le32(128) +
                      le32(crc32_by_hand(table));
    put(out, 16, le32(crc32_by_hand(out)));
    return padded(out, sector);
  };
  std::string out(sectors * sector, '\0');
  put(out, sector, header(1, sectors - 1, 2));
  put(out, 2 * sector, table);
  put(out, (sectors - 1 - table_sectors) * sector, table);
  put(out, (sectors - 1) * sector, header(sectors - 1, 1, sectors - 1 - table_sectors));
  return out;
}

std::string tar_member(const std::string& name, const std::string& data, char type) {
  char numbers[64];
  std::snprintf(numbers, sizeof numbers, "%07o", 0644);
  std::string out =
      field(name, 100) + field(numbers, 8) + field("0000000", 8) + field("0000000", 8);
  std::snprintf(numbers, sizeof numbers, "%011zo", data.size());
  out += field(numbers, 12) + field("15000000000", 12) + std::string(8, ' ') + type;
  out = field(out, 257) + "ustar" + std::string(1, '\0') + "00";
  out.resize(512);
  unsigned sum = 0;
  for (const unsigned char c : out)
    sum += c;
  std::snprintf(numbers, sizeof numbers, "%06o", sum);
  put(out, 148, std::string(numbers) + '\0' + ' ');
  return out + padded(data, 512);
}

std::string tar(const std::vector<Member>& members) {
  std::string out;
  for (const Member& member : members)
    out += tar_member(member.name, member.data);
  return out + std::string(1024, '\0');
}

std::string bsdiff(const std::string& before, const std::string& after,
                   std::optional<std::string> newer) {
  const std::size_t shared = std::min(before.size(), after.size());
  std::string diff;
  for (std::size_t i = 0; i < shared; ++i)
    diff += static_cast<char>(after[i] - before[i]);
  const auto pack = [&](std::size_t i, const std::string& data) {
    return newer && (*newer)[i] == 0 ? data : bzip2(data);
  };
  const std::string control = pack(0, le64(shared) + le64(after.size() - shared) + le64(0));
  const std::string packed = pack(1, diff), extra = pack(2, after.substr(shared));
  return (newer ? "BSDF2" + *newer : "BSDIFF40") + le64(control.size()) + le64(packed.size()) +
         le64(after.size()) + control + packed + extra;
}

}  // namespace wexlo::test
