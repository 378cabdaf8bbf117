#include "image/part_header.hpp"

namespace wexlo::part_header {
namespace {

constexpr std::uint32_t kPartMagic = 0x58881688;
constexpr std::size_t kSizeAt = 4, kNameAt = 8, kNameSize = 32;

std::uint32_t size_field(View header) {
  return load<std::uint32_t, LE>(header.data() + kSizeAt);
}

}  // namespace

bool looks_like(View start) {
  return start.size() >= kSize && load<std::uint32_t, LE>(start.data()) == kPartMagic;
}

Split split(const Blob& part) {
  if (!looks_like(part.view())) return {{}, part, {}};
  const std::size_t left = part.size() - kSize;
  const std::size_t said = size_field(part.view());
  const std::size_t size = said <= left && said != 0 ? said : left;
  return {part.part(0, kSize), part.part(kSize, size), part.rest(kSize + size)};
}

std::string name_of(View header) {
  return std::string(until_nul(header.subspan(kNameAt, kNameSize)));
}

Bytes renewed(View header, std::uint64_t old_size, std::uint64_t new_size) {
  Bytes out = to_bytes(header);
  if (size_field(header) == old_size)
    store<std::uint32_t, LE>(out.data() + kSizeAt, static_cast<std::uint32_t>(new_size));
  return out;
}

}  // namespace wexlo::part_header
