#include "demo/content.hpp"

#include <libfdt.h>

#include <algorithm>

namespace wexlo::demo {
namespace {

/// A small mixing generator; its constants are the usual golden-ratio ones.
class Random {
 public:
  explicit Random(std::uint64_t seed) : state_(seed) {}
  std::uint64_t next() {
    state_ += 0x9e3779b97f4a7c15u;
    std::uint64_t z = state_;
    z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9u;
    z = (z ^ (z >> 27)) * 0x94d049bb133111ebu;
    return z ^ (z >> 31);
  }

 private:
  std::uint64_t state_;
};

void put_text(Bytes& bytes, std::size_t at, std::string_view text) {
  std::ranges::copy(as_view(text), bytes.begin() + static_cast<std::ptrdiff_t>(at));
}

}  // namespace

Bytes code_like(std::uint64_t seed, std::size_t size) {
  Random random(seed);
  std::uint32_t common[64];
  for (auto& word : common)
    word = static_cast<std::uint32_t>(random.next());
  Bytes bytes(align_up(size, 8));
  for (std::size_t at = 0; at < bytes.size(); at += 8) {
    const std::uint64_t roll = random.next();
    const std::uint32_t first = common[roll & 63];
    const std::uint32_t second =
        roll >> 62 ? common[(roll >> 6) & 63] : static_cast<std::uint32_t>(roll >> 16);
    store<std::uint32_t, std::endian::little>(bytes.data() + at, first);
    store<std::uint32_t, std::endian::little>(bytes.data() + at + 4, second);
  }
  bytes.resize(size);
  return bytes;
}

Bytes random_bytes(std::uint64_t seed, std::size_t size) {
  Random random(seed);
  Bytes bytes(align_up(size, 8));
  for (std::size_t at = 0; at < bytes.size(); at += 8)
    store<std::uint64_t, std::endian::little>(bytes.data() + at, random.next());
  bytes.resize(size);
  return bytes;
}

Bytes kernel(std::size_t size, const std::string& release) {
  Bytes bytes = code_like(1, size);
  std::fill_n(bytes.begin(), 64, std::byte{0});
  store<std::uint32_t, std::endian::little>(bytes.data() + 4, 0x14000010);  // a branch
  store<std::uint64_t, std::endian::little>(bytes.data() + 16, size + (2u << 20));
  store<std::uint64_t, std::endian::little>(bytes.data() + 24, 0xa);  // 4 KiB pages, any place
  put_text(bytes, 56, "ARM\x64");
  put_text(bytes, size / 2,
           "Linux version " + release +
               " (build@korvale) (clang 19.0.1) #1 SMP PREEMPT Sat Sep 5 06:00:00 UTC 2026\n");
  return bytes;
}

Bytes elf_like(std::uint64_t seed, std::size_t size) {
  Bytes bytes = code_like(seed, size);
  std::fill_n(bytes.begin(), 64, std::byte{0});
  put_text(bytes, 0,
           "\x7f"
           "ELF\x02\x01\x01");
  store<std::uint16_t, std::endian::little>(bytes.data() + 16, 2);    // an executable
  store<std::uint16_t, std::endian::little>(bytes.data() + 18, 183);  // AArch64
  store<std::uint32_t, std::endian::little>(bytes.data() + 20, 1);
  store<std::uint64_t, std::endian::little>(bytes.data() + 24, 0x400040);
  store<std::uint16_t, std::endian::little>(bytes.data() + 52, 64);
  return bytes;
}

Bytes device_tree(const std::string& model, const std::string& compatible) {
  Bytes bytes(4096);
  void* fdt = bytes.data();
  fdt_create(fdt, static_cast<int>(bytes.size()));
  fdt_finish_reservemap(fdt);
  fdt_begin_node(fdt, "");
  fdt_property(fdt, "model", model.c_str(), static_cast<int>(model.size() + 1));
  fdt_property(fdt, "compatible", compatible.c_str(), static_cast<int>(compatible.size() + 1));
  fdt_end_node(fdt);
  fdt_finish(fdt);
  bytes.resize(fdt_totalsize(fdt));
  return bytes;
}

}  // namespace wexlo::demo
