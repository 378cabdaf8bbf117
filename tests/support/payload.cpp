#include "support/payload.hpp"

#include <zlib.h>

namespace wexlo::test {
namespace {

std::string varint(std::uint64_t value) {
  std::string out;
  do {
    const char low = static_cast<char>(value & 0x7f);
    value >>= 7;
    out += static_cast<char>(value != 0 ? low | '\x80' : low);
  } while (value != 0);
  return out;
}
std::string extent(std::uint64_t start, std::uint64_t blocks) {
  // A zero start may be left out: readers have to take it as 0.
  return (start == 0 ? "" : proto_number(1, start)) + proto_number(2, blocks);
}

}  // namespace

std::string proto_number(unsigned id, std::uint64_t value) {
  return varint(id << 3) + varint(value);
}
std::string proto_bytes(unsigned id, const std::string& value) {
  return varint(id << 3 | 2) + varint(value.size()) + value;
}

std::string PayloadBytes::done() const {
  std::string manifest = proto_number(3, block_size), blobs;
  for (const Partition& partition : partitions) {
    std::string update = proto_bytes(1, partition.name);
    if (!partition.old_image.empty())
      update += proto_bytes(6, proto_number(1, partition.old_image.size()) +
                                   proto_bytes(2, test::sha256(partition.old_image)));
    if (const auto& made = partition.generated) {
      update += proto_bytes(10, extent(0, made->data_blocks));
      update += proto_bytes(11, extent(made->data_blocks, made->tree_blocks));
      update += proto_bytes(12, made->algorithm) + proto_bytes(13, made->salt);
      const std::uint64_t before = made->data_blocks + made->tree_blocks;
      if (made->fec_blocks > 0)
        update += proto_bytes(14, extent(0, before)) +
                  proto_bytes(15, extent(before, made->fec_blocks)) + proto_number(16, 2);
    }
    update +=
        proto_bytes(7, proto_number(1, partition.size.value_or(partition.image.size())) +
                           proto_bytes(2, partition.sha256.value_or(sha256(partition.image))));
    for (const Operation& operation : partition.operations) {
      std::string op = proto_number(1, operation.type);
      if (!operation.data.empty() || operation.data_length) {
        op += proto_number(2, operation.data_offset.value_or(blobs.size()));
        op += proto_number(3, operation.data_length.value_or(operation.data.size()));
        const std::string digest = operation.sha256.value_or(sha256(operation.data));
        if (!digest.empty()) op += proto_bytes(8, digest);
      }
      op += proto_bytes(6, extent(operation.start, operation.blocks));
      for (const auto& [start, blocks] : operation.more)
        op += proto_bytes(6, extent(start, blocks));
      for (const auto& [start, blocks] : operation.sources)
        op += proto_bytes(4, extent(start, blocks));
      if (!operation.source_sha256.empty()) op += proto_bytes(9, operation.source_sha256);
      op += proto_number(77, 5);  // a field that no reader knows
      update += proto_bytes(8, op);
      blobs += operation.data;
    }
    manifest += proto_bytes(13, update);
  }
  for (const auto& [name, members] : groups) {
    std::string group = proto_bytes(1, name) + proto_number(2, 1 << 20);
    for (const std::string& member : members)
      group += proto_bytes(3, member);
    manifest += proto_bytes(15, proto_bytes(1, group));
  }
  manifest += proto_bytes(18, "2026-09-05");
  if (version == 1) return "CrAU" + be64(1) + be64(manifest.size()) + manifest + blobs;
  return "CrAU" + be64(version) + be64(manifest_size.value_or(manifest.size())) +
         be32(static_cast<std::uint32_t>(signature.size())) + manifest + signature + blobs;
}

Partition partition_of(const std::string& name, const std::string& image, std::uint32_t type,
                       std::size_t blocks) {
  Partition out{.name = name, .image = image};
  const std::size_t piece = blocks * 4096;
  for (std::size_t at = 0; at < image.size(); at += piece) {
    const std::string raw = image.substr(at, piece);
    Operation operation{.type = type, .start = at / 4096, .blocks = (raw.size() + 4095) / 4096};
    if (type == 0) operation.data = raw;
    if (type == 1) operation.data = bzip2(raw);
    if (type == 8) operation.data = xz(raw, false);
    out.operations.push_back(std::move(operation));
  }
  return out;
}

std::string zip(const std::vector<Member>& members, const std::string& comment) {
  std::string out, directory;
  for (const Member& member : members) {
    const auto crc =
        static_cast<std::uint32_t>(crc32(0, reinterpret_cast<const Bytef*>(member.data.data()),
                                         static_cast<uInt>(member.data.size())));
    std::string stored = member.data;
    if (member.deflated) {
      const std::string wrapped = gzip(member.data);
      stored = wrapped.substr(10, wrapped.size() - 18);
    }
    if (member.lzma) {
      const std::string alone = lzma(member.data);
      stored = le16(0x0409) + le16(5) + alone.substr(0, 5) + alone.substr(13);
    }
    const unsigned method = member.deflated ? 8 : member.lzma ? 14 : 0;
    const unsigned flags = (member.data_descriptor_flag ? 8 : 0) | (member.lzma ? 2 : 0);
    const std::string sizes = le32(crc) + le32(static_cast<std::uint32_t>(stored.size())) +
                              le32(static_cast<std::uint32_t>(member.data.size()));
    const std::string common = le16(flags) + le16(method) + le16(0) + le16(0x5a25);
    const std::size_t at = out.size();
    out += "PK\x03\x04" + le16(20) + common +
           (member.data_descriptor_flag ? std::string(12, '\0') : sizes) +
           le16(static_cast<unsigned>(member.name.size())) +
           le16(static_cast<unsigned>(member.extra.size())) + member.name + member.extra + stored;
    if (member.data_descriptor_flag) out += "PK\x07\x08" + sizes;
    directory += "PK\x01\x02" + le16(20) + le16(20) + common + sizes +
                 le16(static_cast<unsigned>(member.name.size())) + le16(0) + le16(0) + le16(0) +
                 le16(0) + le32(0) + le32(static_cast<std::uint32_t>(at)) + member.name;
  }
  const std::size_t at = out.size();
  return out + directory + "PK\x05\x06" + le32(0) + le16(static_cast<unsigned>(members.size())) +
         le16(static_cast<unsigned>(members.size())) +
         le32(static_cast<std::uint32_t>(directory.size())) + le32(static_cast<std::uint32_t>(at)) +
         le16(static_cast<unsigned>(comment.size())) + comment;
}

}  // namespace wexlo::test
