/// Device-tree tables and chains as images of their own.

#include <fmt/format.h>

#include <array>

#include "image/device_tree.hpp"

namespace wexlo::dt {
namespace {

using enum FieldType;
constexpr std::uint32_t kHeader = 32;

constexpr std::array kTableFields{
    Field{"magic", 0, 4, Raw},           Field{"total_size", 4, 4, U32},
    Field{"header_size", 8, 4, U32},     Field{"dt_entry_size", 12, 4, U32},
    Field{"dt_entry_count", 16, 4, U32}, Field{"dt_entries_offset", 20, 4, U32},
    Field{"page_size", 24, 4, U32},      Field{"version", 28, 4, U32},
};
constexpr std::array kTableSections{SectionRule{"entries", "total_size", kHeader}};
constexpr std::array kTableLayouts{
    Layout{"dt-table", 0, BE, kHeader, 1, kTableFields, kTableSections},
    Layout{"dt-table", 1, BE, kHeader, 1, kTableFields, kTableSections},
};
/// A chain has no header: all of it is one piece, whose length its trees say.
constexpr Layout kChainLayout{"dtb", 0, BE, 0, 1, {}, {}};

Status check_rows(const Image& image, View bytes) {
  const auto out_of_range = [](std::string message, std::uint64_t at, std::uint64_t most,
                               std::uint64_t found) {
    return fail({.code = ErrorCode::OutOfRange,
                 .message = std::move(message),
                 .offset = at,
                 .expected = fmt::format("at most {}", most),
                 .found = fmt::format("{}", found)});
  };
  const std::uint64_t total = image.number("total_size"), row = image.number("dt_entry_size");
  const std::uint64_t count = image.number("dt_entry_count");
  const std::uint64_t first = image.number("dt_entries_offset");
  if (count != 0 && row < 32)
    return fail({.code = ErrorCode::BadValue,
                 .message = "dt_entry_size is out of range",
                 .offset = 12,
                 .expected = "at least 32",
                 .found = fmt::format("{}", row)});
  if (first + count * row > total)
    return out_of_range("dt_entry_count runs past the table", 16,
                        row == 0 ? 0 : (total - std::min(first, total)) / row, count);
  for (std::uint64_t i = 0; i < count; ++i) {
    const std::size_t at = first + i * row;
    const std::uint64_t size = load<std::uint32_t, BE>(bytes.data() + at);
    const std::uint64_t offset = load<std::uint32_t, BE>(bytes.data() + at + 4);
    if (size != 0 && offset < std::max<std::uint64_t>(kHeader, first + count * row))
      return fail(
          {.code = ErrorCode::OutOfRange,
           .message = fmt::format("device tree {} lies over the table's rows, dt_offset", i),
           .offset = at + 4,
           .expected = fmt::format("at least {}", first + count * row),
           .found = fmt::format("{}", offset)});
    if (offset + size > total)
      return out_of_range(fmt::format("device tree {} runs past the table, dt_offset", i), at + 4,
                          total, offset + size);
  }
  return {};
}

}  // namespace

bool looks_like_table(View start) {
  return as_text(start).starts_with("\xd7\xb7\xab\x1e");
}

bool looks_like_fdt(View start) {
  return as_text(start).starts_with("\xd0\x0d\xfe\xed");
}

Result<Image> parse_table(const Blob& bytes) {
  WEXLO_TRY(const View header, slice(bytes.view(), 0, kHeader, "header"));
  const auto version = load<std::uint32_t, BE>(header.data() + 28);
  if (version >= kTableLayouts.size())
    return fail({.code = ErrorCode::Unsupported,
                 .message = "a device-tree table of another version",
                 .offset = 28,
                 .expected = "0 or 1",
                 .found = fmt::format("{}", version)});
  WEXLO_TRY(Image image, Image::parse(kTableLayouts[version], bytes));
  WEXLO_CHECK(check_rows(image, bytes.view()));
  return image;
}

Blob whole_table(const Image& image) {
  Bytes out = to_bytes(image.header());
  append(out, image.section("entries")->bytes.view());
  return Blob(std::move(out));
}

Result<Image> parse_chain(const Blob& bytes) {
  const auto size = fdt_size(bytes.view());
  if (!size)
    return fail({.code = ErrorCode::Truncated,
                 .message = "a device tree that is not whole, totalsize",
                 .offset = 4,
                 .expected = fmt::format("40 to {}", bytes.size()),
                 .found = bytes.size() < 8
                              ? "the end of the file"
                              : fmt::format("{}", load<std::uint32_t, BE>(bytes.view().data() + 4)),
                 .hint = "The file may be cut short: compare its size with the source's."});
  const auto trees = blobs(bytes);
  return Image::parse_whole(kChainLayout, "dtb", bytes, trees.back().offset + trees.back().size);
}

}  // namespace wexlo::dt
