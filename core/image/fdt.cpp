/// One flattened device tree, read through libfdt, which checks it whole before anything is asked.
/// Its check (1.6.1) reads through a null pointer for trees of versions before 16: those are turned
/// away first; no phone has them.

#include <libfdt.h>

#include "image/device_tree.hpp"

namespace wexlo::dt {
namespace {

constexpr std::size_t kFdtHeader = 40;

std::uint32_t word(View at, std::size_t offset) {
  return load<std::uint32_t, std::endian::big>(at.data() + offset);
}

std::string text_property(const void* fdt, int node, const char* name) {
  int size = 0;
  const auto* value = static_cast<const char*>(fdt_getprop(fdt, node, name, &size));
  if (value == nullptr || size <= 0) return {};
  return std::string(until_nul(as_view({value, static_cast<std::size_t>(size)})));
}

std::vector<std::string> list_property(const void* fdt, int node, const char* name) {
  std::vector<std::string> out;
  const int count = fdt_stringlist_count(fdt, node, name);
  for (int i = 0; i < count && i < 64; ++i) {
    int size = 0;
    const char* text = fdt_stringlist_get(fdt, node, name, i, &size);
    if (text != nullptr) out.emplace_back(text, static_cast<std::size_t>(size));
  }
  return out;
}

bool is_overlay(const void* fdt) {
  int node = -1;
  fdt_for_each_subnode(node, fdt, 0) {
    if (fdt_subnode_offset(fdt, node, "__overlay__") >= 0) return true;
  }
  return false;
}

}  // namespace

std::optional<std::uint64_t> fdt_size(View at) {
  if (!looks_like_fdt(at) || at.size() < kFdtHeader) return std::nullopt;
  const std::uint64_t total = word(at, 4);
  const std::uint32_t version = word(at, 20), last = word(at, 24);
  if (total < kFdtHeader || total > at.size() || total > 0x7fffffff || last > 17 || version < last)
    return std::nullopt;
  for (const std::size_t block : {8u, 12u, 16u})
    if (word(at, block) > total) return std::nullopt;
  return total;
}

Facts facts_of(View bytes) {
  Facts facts;
  const auto size = fdt_size(bytes);
  constexpr std::uint32_t kVersion = 17;
  if (!size || word(bytes, 20) < kVersion || word(bytes, 8) < kFdtHeader) return facts;
  // The library wants the tree at a multiple of 8.
  const Bytes copy = to_bytes(bytes.first(*size));
  const void* fdt = copy.data();
  if (fdt_check_full(fdt, copy.size()) != 0) return facts;
  facts.model = text_property(fdt, 0, "model");
  facts.compatible = list_property(fdt, 0, "compatible");
  if (const int chosen = fdt_path_offset(fdt, "/chosen"); chosen >= 0)
    facts.bootargs = text_property(fdt, chosen, "bootargs");
  facts.overlay = is_overlay(fdt);
  return facts;
}

}  // namespace wexlo::dt
