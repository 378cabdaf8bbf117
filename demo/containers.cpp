#include "demo/containers.hpp"

#include <archive.h>
#include <archive_entry.h>
#include <fmt/format.h>
#include <zip.h>

#include <algorithm>

#include "base/digest.hpp"
#include "demo/content.hpp"

namespace wexlo::demo {
namespace {

constexpr std::size_t kSector = 512;
constexpr std::uint32_t kMetadataSize = 65536, kSlots = 2;
constexpr std::int64_t kMade = 1788588000;  ///< 2026-09-05 06:00 UTC

enum class Sort { Skip, Zero, Data };

Sort sort_of(View image, std::size_t block, std::size_t first, std::size_t count) {
  if (block < first || block >= first + count) return Sort::Skip;
  return all_bytes(image.subspan(block * kBlock, kBlock), std::byte{0}) ? Sort::Zero : Sort::Data;
}

Bytes sha256_with_zeros(Bytes bytes, std::size_t at) {
  std::fill_n(bytes.begin() + static_cast<std::ptrdiff_t>(at), 32, std::byte{0});
  return digest(DigestKind::Sha256, bytes);
}

void put_digest(Bytes& bytes, std::size_t at, const Bytes& value) {
  std::ranges::copy(value, bytes.begin() + static_cast<std::ptrdiff_t>(at));
}

Bytes geometry() {
  Bytes out;
  LeWriter writer(out);
  writer.put(std::uint32_t{0x616C4467});
  writer.put(std::uint32_t{52});
  writer.zeros(32);
  writer.put(kMetadataSize);
  writer.put(kSlots);
  writer.put(std::uint32_t{kBlock});
  put_digest(out, 8, sha256_with_zeros(out, 8));
  writer.align(kBlock);
  return out;
}

struct Tables {
  Bytes partitions, extents, groups, devices;
};

Bytes metadata(const Tables& tables) {
  Bytes body = tables.partitions;
  append(body, View(tables.extents));
  append(body, View(tables.groups));
  append(body, View(tables.devices));
  Bytes out;
  LeWriter writer(out);
  writer.put(std::uint32_t{0x414C5030});
  writer.put(std::uint16_t{10});
  writer.put(std::uint16_t{2});
  writer.put(std::uint32_t{256});
  writer.zeros(32);
  writer.put(static_cast<std::uint32_t>(body.size()));
  writer.put(View(digest(DigestKind::Sha256, body)));
  std::uint32_t at = 0;
  for (const auto& [table, entry] : {std::pair<const Bytes*, std::uint32_t>{&tables.partitions, 52},
                                     {&tables.extents, 24},
                                     {&tables.groups, 48},
                                     {&tables.devices, 64}}) {
    writer.put(at);
    writer.put(static_cast<std::uint32_t>(table->size() / entry));
    writer.put(entry);
    at += static_cast<std::uint32_t>(table->size());
  }
  writer.put(std::uint32_t{1});  // a device with virtual A/B
  writer.zeros(124);
  put_digest(out, 12, sha256_with_zeros(out, 12));
  append(out, View(body));
  out.resize(kMetadataSize);
  return out;
}

}  // namespace

Bytes sparse_piece(View image, std::size_t first, std::size_t count) {
  const std::size_t blocks = image.size() / kBlock;
  Bytes chunks;
  LeWriter writer(chunks);
  std::uint32_t number = 0;
  for (std::size_t block = 0; block < blocks; ++number) {
    const Sort sort = sort_of(image, block, first, count);
    std::size_t end = block + 1;
    while (end < blocks && sort_of(image, end, first, count) == sort)
      ++end;
    const auto size = static_cast<std::uint32_t>(end - block);
    const std::size_t data = sort == Sort::Data ? size * kBlock : sort == Sort::Zero ? 4 : 0;
    writer.put(static_cast<std::uint16_t>(sort == Sort::Data   ? 0xCAC1
                                          : sort == Sort::Zero ? 0xCAC2
                                                               : 0xCAC3));
    writer.put(std::uint16_t{0});
    writer.put(size);
    writer.put(static_cast<std::uint32_t>(12 + data));
    if (sort == Sort::Data) writer.put(image.subspan(block * kBlock, data));
    if (sort == Sort::Zero) writer.zeros(4);
    block = end;
  }
  Bytes out;
  LeWriter header(out);
  header.put(std::uint32_t{0xED26FF3A});
  header.put(std::uint16_t{1});
  header.put(std::uint16_t{0});
  header.put(std::uint16_t{28});
  header.put(std::uint16_t{12});
  header.put(std::uint32_t{kBlock});
  header.put(static_cast<std::uint32_t>(blocks));
  header.put(number);
  header.put(std::uint32_t{0});
  append(out, View(chunks));
  return out;
}

std::vector<ZipFile> sparse_set(const std::string& name, View image, std::size_t pieces) {
  std::vector<ZipFile> out;
  const std::size_t blocks = image.size() / kBlock, each = (blocks + pieces - 1) / pieces;
  for (std::size_t i = 0; i < pieces; ++i)
    out.push_back({fmt::format("{}.img.part-{}", name, i), sparse_piece(image, i * each, each)});
  return out;
}

Bytes super_image(const std::vector<LogicalPartition>& partitions, std::size_t size,
                  const std::string& group) {
  Tables tables;
  LeWriter rows(tables.partitions), extents(tables.extents), groups(tables.groups),
      devices(tables.devices);
  Bytes out(size);
  std::size_t at = kMiB;
  std::uint32_t index = 0;
  for (const LogicalPartition& one : partitions) {
    const std::uint32_t count = one.image.empty() ? 0 : 1;
    rows.text(one.name, 36);
    rows.put(std::uint32_t{1});
    rows.put(index);
    rows.put(count);
    rows.put(std::uint32_t{1});
    if (count == 0) continue;
    extents.put(std::uint64_t{one.image.size() / kSector});
    extents.put(std::uint32_t{0});
    extents.put(std::uint64_t{at / kSector});
    extents.put(std::uint32_t{0});
    std::ranges::copy(one.image, out.begin() + static_cast<std::ptrdiff_t>(at));
    at += align_up(one.image.size(), kMiB);
    ++index;
  }
  groups.text("default", 36);
  groups.put(std::uint32_t{0});
  groups.put(std::uint64_t{0});
  groups.text(group, 36);
  groups.put(std::uint32_t{0});
  groups.put(std::uint64_t{size - kMiB});
  devices.put(std::uint64_t{kMiB / kSector});
  devices.put(static_cast<std::uint32_t>(kMiB));
  devices.put(std::uint32_t{0});
  devices.put(std::uint64_t{size});
  devices.text("super", 36);
  devices.put(std::uint32_t{0});
  std::size_t place = kBlock;
  const auto lay = [&](const Bytes& bytes) {
    std::ranges::copy(bytes, out.begin() + static_cast<std::ptrdiff_t>(place));
    place += bytes.size();
  };
  lay(geometry());
  lay(geometry());
  for (std::uint32_t copy = 0; copy < 2 * kSlots; ++copy)
    lay(metadata(tables));
  return out;
}

Result<Bytes> tar_with_sum(const std::vector<ZipFile>& files, const std::string& name) {
  std::size_t room = 64u << 10;
  for (const ZipFile& file : files)
    room += file.data.size() + 2048;
  Bytes out(room);
  std::size_t used = 0;
  archive* writer = archive_write_new();
  archive_write_set_format_ustar(writer);
  bool good = archive_write_open_memory(writer, out.data(), out.size(), &used) == ARCHIVE_OK;
  for (const ZipFile& file : files) {
    archive_entry* entry = archive_entry_new();
    archive_entry_set_pathname(entry, file.name.c_str());
    archive_entry_set_filetype(entry, AE_IFREG);
    archive_entry_set_perm(entry, 0644);
    archive_entry_set_size(entry, static_cast<la_int64_t>(file.data.size()));
    archive_entry_set_mtime(entry, kMade, 0);
    good = good && archive_write_header(writer, entry) == ARCHIVE_OK &&
           archive_write_data(writer, file.data.data(), file.data.size()) ==
               static_cast<la_ssize_t>(file.data.size());
    archive_entry_free(entry);
  }
  good = archive_write_close(writer) == ARCHIVE_OK && good;
  archive_write_free(writer);
  if (!good) return fail({.code = ErrorCode::Io, .message = "cannot write the tar", .file = name});
  out.resize(used);
  append(out, fmt::format("{}  {}\n", hex(digest(DigestKind::Md5, out)), name));
  return out;
}

Result<Bytes> zip_bytes(const std::vector<ZipFile>& files, const std::string& stored) {
  constexpr zip_uint16_t kSix = 6 << 11, kDate = (2026 - 1980) << 9 | 9 << 5 | 5;
  constexpr zip_uint32_t kFast = 1;
  const Error failure{.code = ErrorCode::Io, .message = "cannot write the zip"};
  zip_error_t error;
  zip_error_init(&error);
  zip_source_t* target = zip_source_buffer_create(nullptr, 0, 0, &error);
  if (target == nullptr) return fail(failure);
  zip_source_keep(target);  // it is read after the zip was closed
  const std::unique_ptr<zip_source_t, decltype(&zip_source_free)> kept(target, zip_source_free);
  zip_t* zip = zip_open_from_source(target, ZIP_TRUNCATE, &error);
  if (zip == nullptr) return fail(failure);
  for (const ZipFile& file : files) {
    zip_source_t* source = zip_source_buffer(zip, file.data.data(), file.data.size(), 0);
    const auto index = zip_file_add(zip, file.name.c_str(), source, ZIP_FL_ENC_UTF_8);
    const auto at = static_cast<zip_uint64_t>(index);
    const bool store = !stored.empty() && file.name.ends_with(stored);
    if (index < 0 ||
        zip_set_file_compression(zip, at, store ? ZIP_CM_STORE : ZIP_CM_DEFLATE, kFast) != 0 ||
        zip_file_set_dostime(zip, at, kSix, kDate, 0) != 0) {
      zip_discard(zip);
      return fail(failure);
    }
  }
  if (zip_close(zip) != 0) {
    zip_discard(zip);
    return fail(failure);
  }
  if (zip_source_open(target) != 0) return fail(failure);
  zip_stat_t stat;
  zip_stat_init(&stat);
  zip_source_stat(target, &stat);
  Bytes out(stat.size);
  const auto got = zip_source_read(target, out.data(), out.size());
  zip_source_close(target);
  if (got != static_cast<zip_int64_t>(out.size())) return fail(failure);
  return out;
}

}  // namespace wexlo::demo
