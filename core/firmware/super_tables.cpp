#include "firmware/super_tables.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace wexlo::super_tables {

Error wrong(std::string message, std::uint64_t at, std::string expected, std::string found) {
  return {.code = ErrorCode::Corrupt,
          .message = std::move(message),
          .offset = at,
          .expected = std::move(expected),
          .found = std::move(found)};
}

namespace {

/// A structure's sum counts its own 32 bytes as zero.
bool sum_is_true(View bytes, std::size_t sum_at) {
  Bytes copy = to_bytes(bytes);
  std::fill_n(copy.begin() + static_cast<std::ptrdiff_t>(sum_at), kSumSize, std::byte{0});
  return equal(digest(DigestKind::Sha256, copy), bytes.subspan(sum_at, kSumSize));
}

Status check_tables(const Metadata& metadata) {
  for (const std::size_t index : {Partitions, Extents, Groups, Devices}) {
    const Metadata::Table table = metadata.table(index);
    const std::uint64_t bytes = std::uint64_t{table.count} * table.entry;
    if (table.count != 0 && table.entry < kEntrySize[index])
      return fail(wrong("a table's entry_size is too small", metadata.at + 88 + index * 12,
                        fmt::format("{}", kEntrySize[index]), fmt::format("{}", table.entry)));
    if (table.offset > metadata.tables.size() || bytes > metadata.tables.size() - table.offset)
      return fail(wrong("a table lies outside the metadata", metadata.at + 80 + index * 12,
                        fmt::format("{} bytes", metadata.tables.size()),
                        fmt::format("{} bytes from {}", bytes, table.offset)));
  }
  return {};
}

}  // namespace

Result<Geometry> read_geometry(const Source& source, std::uint64_t at) {
  WEXLO_TRY(const Bytes raw, read_some(source, at, kGeometryStruct));
  WEXLO_TRY(const View view, slice(raw, 0, kGeometryStruct, "geometry"));
  if (le<std::uint32_t>(view, 0) != kGeometryMagic)
    return fail(wrong("no geometry here", at, hex_value(kGeometryMagic),
                      hex_value(le<std::uint32_t>(view, 0))));
  const auto struct_size = le<std::uint32_t>(view, 4);
  if (struct_size < kGeometryStruct || struct_size > kGeometrySize)
    return fail(wrong("the geometry's struct_size is out of range", at + 4, "52",
                      fmt::format("{}", struct_size)));
  WEXLO_TRY(const Bytes whole, read_some(source, at, struct_size));
  if (whole.size() < struct_size || !sum_is_true(whole, 8))
    return fail(wrong("the geometry's checksum does not match", at + 8, "", ""));
  const Geometry out{le<std::uint32_t>(view, 40), le<std::uint32_t>(view, 44)};
  if (out.metadata_size == 0 || out.metadata_size % kSector != 0 ||
      out.metadata_size > kMaxMetadata || out.slots == 0 || out.slots > kMaxSlots)
    return fail(wrong("the geometry's metadata size or slot count is out of range", at + 40,
                      "a multiple of 512, and 1 to 64 slots",
                      fmt::format("{} bytes, {} slots", out.metadata_size, out.slots)));
  return out;
}

Result<Metadata> read_metadata(const Source& source, std::uint64_t at, std::uint32_t most) {
  Metadata out{.at = at};
  WEXLO_TRY(const Bytes start, read_some(source, at, kHeader));
  WEXLO_TRY(const View view, slice(start, 0, kHeader, "metadata header"));
  if (le<std::uint32_t>(view, 0) != kHeaderMagic)
    return fail(wrong("no metadata here", at, hex_value(kHeaderMagic),
                      hex_value(le<std::uint32_t>(view, 0))));
  const auto major = le<std::uint16_t>(view, 4);
  out.minor = le<std::uint16_t>(view, 6);
  if (major != kMajor)
    return fail({.code = ErrorCode::Unsupported,
                 .message = "logical partitions of another major version",
                 .offset = at + 4,
                 .expected = fmt::format("{}", kMajor),
                 .found = fmt::format("{}", major)});
  const auto header_size = le<std::uint32_t>(view, 8), tables_size = le<std::uint32_t>(view, 44);
  if (header_size < kHeader || header_size > kGeometrySize || header_size > most ||
      tables_size > most - header_size)
    return fail(wrong("the metadata's sizes are out of range", at + 8,
                      fmt::format("at most {} bytes", most),
                      fmt::format("{} and {} bytes", header_size, tables_size)));
  WEXLO_TRY(out.header, read_some(source, at, header_size));
  WEXLO_TRY(out.tables, read_some(source, at + header_size, tables_size));
  if (out.header.size() < header_size || !sum_is_true(out.header, 12))
    return fail(wrong("the metadata header's checksum does not match", at + 12, "", ""));
  if (out.tables.size() < tables_size ||
      !equal(digest(DigestKind::Sha256, out.tables), View(out.header).subspan(48, kSumSize)))
    return fail(wrong("the tables' checksum does not match", at + 48, "", ""));
  WEXLO_CHECK(check_tables(out));
  return out;
}

std::string slot_name(std::uint32_t slot) {
  return slot < 26 ? std::string("_") + static_cast<char>('a' + slot) : fmt::format("{}", slot);
}

void renew_sums(Metadata& metadata) {
  const auto put = [&](std::size_t at, const Bytes& sum) {
    std::ranges::copy(sum, metadata.header.begin() + static_cast<std::ptrdiff_t>(at));
  };
  put(48, digest(DigestKind::Sha256, metadata.tables));
  put(12, Bytes(kSumSize));
  put(12, digest(DigestKind::Sha256, metadata.header));
}

}  // namespace wexlo::super_tables
