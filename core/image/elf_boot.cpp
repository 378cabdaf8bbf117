#include "image/elf_boot.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "image/kernel.hpp"

namespace wexlo::boot {
namespace {

using enum FieldType;

constexpr std::size_t kHeader = 52, kEntry = 32;  ///< ELF header, program header
constexpr std::size_t kTableAt = 28, kEntrySizeAt = 42, kCountAt = 44;
constexpr std::size_t kOffsetIn = 4, kAddressIn = 12, kFileSizeIn = 16,
                      kMemorySizeIn = 20;  ///< of a program header
constexpr std::uint32_t kLoad = 1;
constexpr unsigned kMostSegments = 16;

constexpr std::uint32_t field_at(std::size_t segment, std::size_t in) {
  return static_cast<std::uint32_t>(kHeader + segment * kEntry + in);
}

/// The program headers follow the ELF header at once, kernel first.
constexpr std::array kElfFields{
    Field{"kernel_size", field_at(0, kFileSizeIn), 4, U32},
    Field{"kernel_addr", field_at(0, kAddressIn), 4, U32},
    Field{"ramdisk_size", field_at(1, kFileSizeIn), 4, U32},
    Field{"ramdisk_addr", field_at(1, kAddressIn), 4, U32},
    Field{"kernel_memory_size", field_at(0, kMemorySizeIn), 4, U32},
    Field{"ramdisk_memory_size", field_at(1, kMemorySizeIn), 4, U32},
};
constexpr std::array kElfSections{SectionRule{"kernel", "kernel_size", 0, "kernel_memory_size"},
                                  SectionRule{"ramdisk", "ramdisk_size", 0, "ramdisk_memory_size"}};
constexpr Layout kElfLayout{"boot", 0, LE, kHeader + 2 * kEntry, 1, kElfFields, kElfSections, true};

std::uint32_t u32(View in, std::size_t at) {
  return load<std::uint32_t, LE>(in.data() + at);
}
unsigned u16(View in, std::size_t at) {
  return load<std::uint16_t, LE>(in.data() + at);
}

Error damaged(ErrorCode code, std::uint64_t at, std::string message, std::string expected,
              std::string found) {
  return {.code = code,
          .message = std::move(message),
          .offset = at,
          .expected = std::move(expected),
          .found = std::move(found),
          .hint = "The file is damaged or cut short: fetch it again."};
}

}  // namespace

bool looks_like_elf_boot(View start) {
  constexpr std::string_view kElf32Little{
      "\x7f"
      "ELF\1\1",
      6};
  if (start.size() < kHeader + 2 * kEntry || !as_text(start).starts_with(kElf32Little))
    return false;
  const unsigned count = u16(start, kCountAt);
  if (u32(start, kTableAt) != kHeader || u16(start, kEntrySizeAt) != kEntry || count < 2 ||
      count > kMostSegments || u32(start, field_at(0, 0)) != kLoad ||
      u32(start, field_at(1, 0)) != kLoad)
    return false;
  const std::uint32_t kernel_at = u32(start, field_at(0, kOffsetIn));
  return kernel_at >= kHeader + 2 * kEntry && kernel_at < start.size() &&
         kernel::looks_like_kernel(start.subspan(kernel_at));
}

Result<Image> parse_elf_boot(const Blob& bytes) {
  const View view = bytes.view();
  if (!looks_like_elf_boot(view))
    return fail(damaged(ErrorCode::BadMagic, 0, "not an ELF32 boot image",
                        "a program whose first segment is a kernel",
                        hex(view.first(std::min<std::size_t>(view.size(), 4)))));
  const unsigned count = u16(view, kCountAt);
  WEXLO_CHECK(slice(view, kHeader, std::uint64_t{count} * kEntry, "program headers"));
  std::vector<SectionPlace> places;
  for (unsigned i = 0; i < count; ++i) {
    const std::uint64_t offset = u32(view, field_at(i, kOffsetIn)),
                        size = u32(view, field_at(i, kFileSizeIn));
    // Beyond kernel and ramdisk only their places matter: they bound what may grow.
    const std::string name = i == 0 ? "kernel" : i == 1 ? "ramdisk" : fmt::format("segment_{}", i);
    if (offset > view.size() || size > view.size() - offset)
      return fail(damaged(ErrorCode::Truncated, field_at(i, kOffsetIn),
                          fmt::format("the segment {} runs past the end of the file", name),
                          fmt::format("{} bytes from {}", size, offset),
                          fmt::format("{} bytes in all", view.size())));
    if (i < 2 || size > 0) places.push_back({name, offset, size});
  }
  std::ranges::sort(places, {}, &SectionPlace::offset);
  std::uint64_t end = kHeader + std::uint64_t{count} * kEntry;
  for (const SectionPlace& one : places) {
    if (one.offset < end)
      return fail(damaged(ErrorCode::BadValue, one.offset,
                          fmt::format("the segment {} lies over what is before it", one.name),
                          fmt::format("from {} on", end), fmt::format("from {}", one.offset)));
    end = one.offset + one.size;
  }
  return Image::parse_placed(kElfLayout, bytes, places);
}

}  // namespace wexlo::boot
