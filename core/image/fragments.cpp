#include "image/fragments.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "image/part_header.hpp"

namespace wexlo::boot {
namespace {

/// One row of the table; later versions may have longer rows.
constexpr std::size_t kSizeAt = 0, kOffsetAt = 4, kTypeAt = 8, kNameAt = 12, kNameSize = 32,
                      kBoardAt = 44, kRowSize = 108;
constexpr std::array<std::string_view, 4> kTypeNames{"none", "platform", "recovery", "dlkm"};

struct Row {
  std::uint32_t size, offset;
  std::size_t at;  ///< in the table section
};

std::vector<Row> rows_of(const Image& image) {
  std::vector<Row> rows;
  const Section* table = image.section(kFragmentTable);
  if (table == nullptr) return rows;
  const std::uint64_t step = image.number("vendor_ramdisk_table_entry_size");
  const std::uint64_t count = image.number("vendor_ramdisk_table_entry_num");
  const View bytes = table->bytes.view();
  // check_fragments has held the product against the section's size.
  for (std::uint64_t i = 0; i < count && step >= kRowSize && (i + 1) * step <= bytes.size(); ++i) {
    const std::size_t at = i * step;
    rows.push_back({load<std::uint32_t, LE>(bytes.data() + at + kSizeAt),
                    load<std::uint32_t, LE>(bytes.data() + at + kOffsetAt), at});
  }
  return rows;
}

RamdiskPart part_from(const Section& section, std::uint64_t offset, std::uint64_t size) {
  RamdiskPart part{.section = section.name, .offset = section.offset + offset};
  const Blob bytes = section.bytes.part(offset, size);
  const auto split = part_header::split(bytes);
  part.header = split.header;
  part.bytes = split.payload;
  part.rest = split.rest;
  return part;
}

/// The part as its section has it, with another ramdisk in it.
Bytes rebuilt(const RamdiskPart& part, View ramdisk) {
  Bytes out;
  if (!part.header.empty())
    out = part_header::renewed(part.header.view(), part.bytes.size(), ramdisk.size());
  append(out, ramdisk);
  append(out, part.rest.view());
  return out;
}

}  // namespace

std::string ramdisk_type_name(std::uint32_t type) {
  return type < kTypeNames.size() ? std::string(kTypeNames[type]) : fmt::format("{}", type);
}

std::optional<std::uint32_t> ramdisk_type_named(std::string_view name) {
  const auto at = std::ranges::find(kTypeNames, name);
  if (at != kTypeNames.end()) return static_cast<std::uint32_t>(at - kTypeNames.begin());
  std::uint32_t value = 0;
  const auto [end, bad] = std::from_chars(name.data(), name.data() + name.size(), value);
  if (bad != std::errc() || end != name.data() + name.size()) return std::nullopt;
  return value;
}

bool RamdiskPart::every_start_loads() const {
  return !is(RamdiskType::Recovery) && !is(RamdiskType::Dlkm);
}

std::string RamdiskPart::title() const {
  if (!in_table) return section;
  return fmt::format("{}.{}", section, name.empty() ? fmt::format("{}", index) : name);
}

Status check_fragments(const Image& image) {
  const Section* table = image.section(kFragmentTable);
  if (table == nullptr) return {};
  const auto at = [&](std::string_view field) { return image.layout().field(field)->offset; };
  const std::uint64_t step = image.number("vendor_ramdisk_table_entry_size");
  const std::uint64_t count = image.number("vendor_ramdisk_table_entry_num");
  if (count == 0) return {};
  if (step < kRowSize)
    return fail({.code = ErrorCode::BadValue,
                 .message = "vendor_ramdisk_table_entry_size is out of range",
                 .offset = at("vendor_ramdisk_table_entry_size"),
                 .expected = fmt::format("at least {}", kRowSize),
                 .found = fmt::format("{}", step),
                 .section = kFragmentTable});
  if (count * step > table->bytes.size())  // both are 32 bits: the product fits into 64
    return fail({.code = ErrorCode::OutOfRange,
                 .message = "vendor_ramdisk_table_entry_num runs past the table",
                 .offset = at("vendor_ramdisk_table_entry_num"),
                 .expected = fmt::format("at most {} entries", table->bytes.size() / step),
                 .found = fmt::format("{}", count),
                 .section = kFragmentTable});
  const std::uint64_t whole = image.section("vendor_ramdisk")->bytes.size();
  auto rows = rows_of(image);
  for (const Row& row : rows)
    if (std::uint64_t{row.offset} + row.size > whole)
      return fail({.code = ErrorCode::OutOfRange,
                   .message = "a fragment runs past the vendor ramdisk, ramdisk_offset says so",
                   .offset = table->offset + row.at + kOffsetAt,
                   .expected = fmt::format("an end of at most {}", whole),
                   .found = fmt::format("{} bytes from {}", row.size, row.offset),
                   .section = kFragmentTable});
  std::ranges::sort(rows, {}, [](const Row& row) { return std::pair(row.offset, row.size); });
  for (std::size_t i = 1; i < rows.size(); ++i)
    if (rows[i - 1].size != 0 && rows[i].offset < rows[i - 1].offset + rows[i - 1].size)
      return fail({.code = ErrorCode::BadValue,
                   .message = "two fragments of the vendor ramdisk lie over each other",
                   .offset = table->offset + rows[i].at + kOffsetAt,
                   .expected = fmt::format("at least {}", rows[i - 1].offset + rows[i - 1].size),
                   .found = fmt::format("{}", rows[i].offset),
                   .section = kFragmentTable});
  return {};
}

std::vector<RamdiskPart> ramdisk_parts(const Image& image) {
  std::vector<RamdiskPart> parts;
  if (const Section* section = image.section("ramdisk"); section && !section->bytes.empty())
    parts.push_back(part_from(*section, 0, section->bytes.size()));
  const Section* section = image.section("vendor_ramdisk");
  if (section == nullptr || section->bytes.empty()) return parts;
  const auto rows = rows_of(image);
  for (std::size_t i = 0; i < rows.size(); ++i) {
    RamdiskPart part = part_from(*section, rows[i].offset, rows[i].size);
    const std::byte* row = image.section(kFragmentTable)->bytes.view().data() + rows[i].at;
    part.index = i;
    part.in_table = true;
    part.name = until_nul({row + kNameAt, kNameSize});
    part.type = load<std::uint32_t, LE>(row + kTypeAt);
    for (std::size_t word = 0; word < part.board_id.size(); ++word)
      part.board_id[word] = load<std::uint32_t, LE>(row + kBoardAt + 4 * word);
    parts.push_back(std::move(part));
  }
  if (rows.empty()) parts.push_back(part_from(*section, 0, section->bytes.size()));
  return parts;
}

Status replace_ramdisk(Image& image, std::size_t index, Blob bytes) {
  const auto parts = ramdisk_parts(image);
  const RamdiskPart& part = parts.at(index);
  const Section& section = *image.section(part.section);
  const Bytes now = rebuilt(part, bytes.view());
  if (!part.in_table) return image.replace(part.section, Blob(Bytes(now)));
  const Row row = rows_of(image)[part.index];
  Bytes whole = to_bytes(section.bytes.view().first(row.offset));
  append(whole, View(now));
  append(whole, section.bytes.view().subspan(std::size_t{row.offset} + row.size));
  if (whole.size() > 0xffffffffu)
    return fail({.code = ErrorCode::OutOfRange,
                 .message = "the vendor ramdisk grows past what its header can say"});
  Bytes table = to_bytes(image.section(kFragmentTable)->bytes.view());
  const auto shift = static_cast<std::uint32_t>(now.size() - row.size);  // wraps when it shrinks
  for (const Row& other : rows_of(image)) {
    std::byte* at = table.data() + other.at;
    const bool behind = other.at != row.at && other.offset >= row.offset + row.size &&
                        (other.offset != row.offset || other.at > row.at);
    if (behind) store<std::uint32_t, LE>(at + kOffsetAt, other.offset + shift);
  }
  store<std::uint32_t, LE>(table.data() + row.at + kSizeAt, static_cast<std::uint32_t>(now.size()));
  WEXLO_CHECK(image.replace("vendor_ramdisk", Blob(std::move(whole))));
  return image.replace(kFragmentTable, Blob(std::move(table)));
}

Status set_fragment(Image& image, std::size_t part, std::string_view name, std::uint32_t type,
                    const std::array<std::uint32_t, 16>& board_id) {
  const auto rows = rows_of(image);
  if (part >= rows.size())
    return fail({.code = ErrorCode::Unsupported, .message = "the image has no such fragment"});
  if (name.size() >= kNameSize)
    return fail({.code = ErrorCode::OutOfRange,
                 .message = "the fragment's name is too long",
                 .expected = fmt::format("at most {} bytes", kNameSize - 1),
                 .found = fmt::format("{} bytes", name.size())});
  Bytes table = to_bytes(image.section(kFragmentTable)->bytes.view());
  std::byte* row = table.data() + rows[part].at;
  store<std::uint32_t, LE>(row + kTypeAt, type);
  if (until_nul({row + kNameAt, kNameSize}) != name) {
    std::fill_n(row + kNameAt, kNameSize, std::byte{0});
    std::ranges::copy(as_view(name), row + kNameAt);
  }
  for (std::size_t word = 0; word < board_id.size(); ++word)
    store<std::uint32_t, LE>(row + kBoardAt + 4 * word, board_id[word]);
  return image.replace(kFragmentTable, Blob(std::move(table)));
}

FragmentKey fragment_key(const RamdiskPart& part) {
  return {part.name, part.type, part.board_id};
}

Status add_fragment(Image& image, const FragmentKey& key, View bytes) {
  const Section* section = image.section("vendor_ramdisk");
  const Section* table = image.section(kFragmentTable);
  const std::uint64_t step = image.number("vendor_ramdisk_table_entry_size");
  if (section == nullptr || table == nullptr || step < kRowSize)
    return fail({.code = ErrorCode::Unsupported,
                 .message = "the image has no table of fragments",
                 .expected = "vendor_boot of header version 4"});
  const auto rows = rows_of(image);
  const std::uint64_t begin = section->bytes.size();
  if (begin + bytes.size() > 0xffffffffu)
    return fail({.code = ErrorCode::OutOfRange,
                 .message = "the vendor ramdisk grows past what its header can say"});
  Bytes whole = to_bytes(section->bytes.view());
  append(whole, bytes);
  Bytes fresh = to_bytes(table->bytes.view().first(rows.size() * step));
  const std::size_t at = fresh.size();
  fresh.resize(at + step);
  store<std::uint32_t, LE>(fresh.data() + at + kSizeAt, static_cast<std::uint32_t>(bytes.size()));
  store<std::uint32_t, LE>(fresh.data() + at + kOffsetAt, static_cast<std::uint32_t>(begin));
  append(fresh, table->bytes.view().subspan(rows.size() * step));
  WEXLO_CHECK(image.replace("vendor_ramdisk", Blob(std::move(whole))));
  WEXLO_CHECK(image.replace(kFragmentTable, Blob(std::move(fresh))));
  WEXLO_CHECK(image.set_number("vendor_ramdisk_table_entry_num", rows.size() + 1));
  return set_fragment(image, rows.size(), key.name, key.type, key.board_id);
}

Status remove_fragment(Image& image, std::size_t part) {
  const auto rows = rows_of(image);
  if (part >= rows.size() || rows.size() < 2)
    return fail({.code = ErrorCode::Unsupported,
                 .message = part >= rows.size() ? "the image has no such fragment"
                                                : "the image has no other fragment than this one"});
  const Row gone = rows[part];
  const std::uint64_t step = image.number("vendor_ramdisk_table_entry_size");
  Bytes whole = to_bytes(image.section("vendor_ramdisk")->bytes.view());
  const auto begin = whole.begin() + static_cast<std::ptrdiff_t>(gone.offset);
  whole.erase(begin, begin + static_cast<std::ptrdiff_t>(gone.size));
  Bytes table = to_bytes(image.section(kFragmentTable)->bytes.view());
  for (const Row& other : rows)
    if (other.at != gone.at && other.offset >= gone.offset + gone.size)
      store<std::uint32_t, LE>(table.data() + other.at + kOffsetAt, other.offset - gone.size);
  const auto row = table.begin() + static_cast<std::ptrdiff_t>(gone.at);
  table.erase(row, row + static_cast<std::ptrdiff_t>(step));
  WEXLO_CHECK(image.replace("vendor_ramdisk", Blob(std::move(whole))));
  WEXLO_CHECK(image.replace(kFragmentTable, Blob(std::move(table))));
  return image.set_number("vendor_ramdisk_table_entry_num", rows.size() - 1);
}

}  // namespace wexlo::boot
