#include "image/part_header.hpp"

namespace wexlo::part_header {
namespace {

constexpr std::uint32_t kPartMagic = 0x58881688;
constexpr std::size_t kSizeAt = 4, kNameAt = 8, kNameSize = 32;

}  // namespace

bool looks_like(View start) {
  return start.size() >= kSize && load<std::uint32_t, LE>(start.data()) == kPartMagic;
}

std::uint32_t payload_size(View header) {
  return load<std::uint32_t, LE>(header.data() + kSizeAt);
}

void set_payload_size(MutableView header, std::uint32_t size) {
  store<std::uint32_t, LE>(header.data() + kSizeAt, size);
}

Split split(const Blob& part) {
  if (!looks_like(part.view())) return {{}, part, {}};
  const std::size_t left = part.size() - kSize;
  const std::size_t said = payload_size(part.view());
  const std::size_t size = said <= left && said != 0 ? said : left;
  return {part.part(0, kSize), part.part(kSize, size), part.rest(kSize + size)};
}

std::string name_of(View header) {
  return std::string(until_nul(header.subspan(kNameAt, kNameSize)));
}

Bytes renewed(View header, std::uint64_t old_size, std::uint64_t new_size) {
  Bytes out = to_bytes(header);
  if (payload_size(header) == old_size) set_payload_size(out, static_cast<std::uint32_t>(new_size));
  return out;
}

}  // namespace wexlo::part_header
