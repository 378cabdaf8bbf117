#include "firmware/top_struct.hpp"

#include "verified/vbmeta.hpp"

namespace wexlo {

std::optional<TopStruct> top_struct(const LoadedImage* vbmeta, const LoadedImage* boot) {
  if (vbmeta != nullptr) {
    if (!vbmeta->image || vbmeta->image->kind() != "vbmeta") return std::nullopt;
    return TopStruct{"vbmeta", *vbmeta->image};
  }
  if (boot == nullptr) return std::nullopt;
  auto own = verified::own_struct(boot->bytes.view());
  if (!own || !*own) return std::nullopt;
  return TopStruct{"boot", std::move(**own)};
}

Result<std::optional<TopStruct>> top_struct(StockImages& stock, const Context& context) {
  WEXLO_TRY(const LoadedImage* const vbmeta, stock.get("vbmeta", context));
  if (vbmeta != nullptr) return top_struct(vbmeta, nullptr);
  WEXLO_TRY(const LoadedImage* const boot, stock.get("boot", context));
  return top_struct(nullptr, boot);
}

}  // namespace wexlo
