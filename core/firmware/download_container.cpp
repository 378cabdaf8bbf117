#include "firmware/download_container.hpp"

#include <fmt/format.h>
#include <tinyxml2.h>

#include <algorithm>
#include <map>

#include "base/crc16.hpp"
#include "firmware/damaged.hpp"
#include "firmware/listing_index.hpp"
#include "firmware/package.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

constexpr std::size_t kHeader = 2124, kRow = 2580;
constexpr std::uint32_t kMagic = 0xFFFAFFFA;
constexpr std::size_t kMagicAt = 2116, kCrcAt = 2120;
constexpr std::size_t kSizeHighAt = 44, kSizeLowAt = 48, kProductAt = 52, kVersionAt = 564,
                      kCountAt = 1076, kListAt = 1080;
constexpr std::size_t kName = 256;  ///< units of the header's and the rows' names
constexpr std::size_t kRowIdAt = 4, kRowFileAt = 516, kRowSizeHighAt = 1532,
                      kRowOffsetHighAt = 1536, kRowSizeLowAt = 1540, kRowOffsetLowAt = 1552;
constexpr std::size_t kMostFiles = 4096;

std::uint32_t u32(View in, std::size_t at) {
  return load<std::uint32_t, LE>(in.data() + at);
}

/// UTF-16 up to its NUL; what is not plain ASCII becomes `_`.
std::string text16(View in, std::size_t at, std::size_t units) {
  std::string out;
  for (std::size_t i = 0; i < units; ++i) {
    const auto unit = load<std::uint16_t, LE>(in.data() + at + 2 * i);
    if (unit == 0) break;
    out += unit >= 0x20 && unit < 0x7F ? static_cast<char>(unit) : '_';
  }
  return out;
}

struct Row {
  std::string id, file;
  std::uint64_t size = 0, offset = 0;
};

Result<Row> read_row(const Source& source, View raw, std::uint64_t at) {
  if (u32(raw, 0) != kRow)
    return fail(damaged_container(source, ErrorCode::BadValue, at,
                                  "a row of the file table is of another size",
                                  fmt::format("{}", kRow), fmt::format("{}", u32(raw, 0))));
  Row out{.id = text16(raw, kRowIdAt, kName),
          .file = text16(raw, kRowFileAt, kName),
          .size = std::uint64_t{u32(raw, kRowSizeHighAt)} << 32 | u32(raw, kRowSizeLowAt),
          .offset = std::uint64_t{u32(raw, kRowOffsetHighAt)} << 32 | u32(raw, kRowOffsetLowAt)};
  if (out.size > 0 && (out.offset > source.size() || out.size > source.size() - out.offset))
    return fail(
        damaged_container(source, ErrorCode::Truncated, at,
                          fmt::format("the file {} lies beyond the end", printable(out.file)),
                          fmt::format("{} bytes from {}", out.size, out.offset),
                          fmt::format("{} bytes in all", source.size())));
  return out;
}

/// Rows without bytes are actions of the maker's program.
Result<std::vector<Row>> read_rows(const Source& source, View header) {
  const std::uint64_t count = u32(header, kCountAt), list = u32(header, kListAt);
  if (count > kMostFiles)
    return fail(damaged_container(source, ErrorCode::LimitExceeded, kCountAt, "too many files",
                                  fmt::format("at most {}", kMostFiles), fmt::format("{}", count)));
  std::vector<Row> out;
  for (std::uint64_t i = 0; i < count; ++i) {
    const std::uint64_t at = list + i * kRow;
    WEXLO_TRY(const Bytes raw, read_some(source, at, kRow));
    if (raw.size() < kRow)
      return fail(damaged_container(source, ErrorCode::Truncated, at,
                                    "the file ends inside its table of files",
                                    fmt::format("{} rows", count), fmt::format("{} rows", i)));
    WEXLO_TRY(Row row, read_row(source, raw, at));
    if (row.size > 0 && !row.file.empty()) out.push_back(std::move(row));
  }
  return out;
}

/// The partition that an element names: `<Block id="boot">`, or a leaf or attribute of that
/// meaning.
std::string block_of(const tinyxml2::XMLElement& file) {
  for (const auto* child = file.FirstChildElement(); child != nullptr;
       child = child->NextSiblingElement()) {
    const std::string name = lower_case(child->Name());
    if (name != "block" && name != "partition") continue;
    for (const char* key : {"id", "ID", "name", "Name"})
      if (const char* value = child->Attribute(key); value != nullptr && *value != 0) return value;
    if (child->GetText() != nullptr) return child->GetText();
  }
  for (const char* key : {"block", "partition", "Block", "Partition"})
    if (const char* value = file.Attribute(key); value != nullptr) return value;
  return {};
}

std::string id_of(const tinyxml2::XMLElement& file) {
  for (const auto* child = file.FirstChildElement(); child != nullptr;
       child = child->NextSiblingElement())
    if (lower_case(child->Name()) == "id" && child->GetText() != nullptr) return child->GetText();
  for (const char* key : {"id", "ID"})
    if (const char* value = file.Attribute(key); value != nullptr) return value;
  return {};
}

void collect_blocks(const tinyxml2::XMLElement& at, int depth,
                    std::map<std::string, std::string>& out) {
  constexpr int kDeepest = 16;
  if (depth > kDeepest) return;
  if (std::string id = id_of(at), block = block_of(at); !id.empty() && !block.empty())
    out.emplace(std::move(id), std::move(block));
  for (const auto* child = at.FirstChildElement(); child != nullptr;
       child = child->NextSiblingElement())
    collect_blocks(*child, depth + 1, out);
}

/// Ids and the partitions they are for, by the XML among the files.
Result<std::map<std::string, std::string>> blocks_of(const SourcePtr& source,
                                                     const std::vector<Row>& rows) {
  std::map<std::string, std::string> out;
  for (const Row& row : rows) {
    if (!lower_case(row.file).ends_with(".xml") || row.size > kMaxText) continue;
    WEXLO_TRY(const Bytes text, read_some(*source, row.offset, row.size));
    tinyxml2::XMLDocument document;
    if (document.Parse(as_text(text).data(), text.size()) != tinyxml2::XML_SUCCESS) continue;
    if (const auto* root = document.RootElement()) collect_blocks(*root, 0, out);
  }
  return out;
}

void check_header_sum(View header, Firmware& out) {
  const auto stored = load<std::uint16_t, LE>(header.data() + kCrcAt);
  if (stored == 0 || crc16_match(header.first(kCrcAt), stored)) return;
  out.note(
      FindingCode::ContainerSum,
      fmt::format("The container's header does not have the CRC-16 {:04x} that it promises: it "
                  "may be damaged, or was changed by another program.",
                  stored));
}

}  // namespace

bool looks_like_download_container(View start) {
  constexpr std::string_view kVersion{"B\0P\0_\0R\0", 8};
  return start.size() >= kHeader && as_text(start).starts_with(kVersion) &&
         u32(start, kMagicAt) == kMagic;
}

Result<FirmwarePtr> open_download_container(const SourcePtr& source, const Opening& opening) {
  WEXLO_TRY(const Bytes header, read_some(*source, 0, kHeader));
  const std::uint64_t size =
      std::uint64_t{u32(header, kSizeHighAt)} << 32 | u32(header, kSizeLowAt);
  if (size > source->size())
    return fail(damaged_container(*source, ErrorCode::Truncated, kSizeHighAt,
                                  "the container is cut short", fmt::format("{} bytes", size),
                                  fmt::format("{} bytes", source->size())));
  WEXLO_TRY(const std::vector<Row> rows, read_rows(*source, header));
  WEXLO_TRY(const auto blocks, blocks_of(source, rows));
  Bundle bundle{.name = source->name()};
  for (const Row& row : rows) {
    const auto block = blocks.find(row.id);
    bundle.items.push_back(
        {.path = row.file,
         .size = row.size,
         .stored_size = row.size,
         .open =
             [source, row](const Context&) {
               return open_window(source, row.offset, row.size, source->name() + "!" + row.file);
             },
         .partition =
             block == blocks.end() ? std::string() : listing::partition_of(block->second)});
  }
  const std::string product = text16(header, kProductAt, kName),
                    version = text16(header, kVersionAt, kName);
  std::string detail = fmt::format("{} files", rows.size());
  if (!product.empty()) detail += ", for " + product;
  WEXLO_TRY(FirmwarePtr out, open_package(bundle, {"download-container", detail}, opening));
  if (out->build.incremental.empty()) out->build.incremental = version;
  check_header_sum(header, *out);
  return out;
}

}  // namespace wexlo
