#pragma once
/// The verified-boot struct at the top of a phone's chain: the one in vbmeta, else, where a phone
/// has no such partition, the one that boot's own footer leads to.

#include <optional>

#include "firmware/stock_images.hpp"

namespace wexlo {

struct TopStruct {
  std::string_view partition;  ///< that holds it: "vbmeta" or "boot"
  Image vbmeta;
};

/// @param vbmeta, boot  nullptr: the phone has none, or it is not here
/// nullopt: there is none, or it does not read.
[[nodiscard]] std::optional<TopStruct> top_struct(const LoadedImage* vbmeta,
                                                  const LoadedImage* boot);
/// The stock one. Errors: those of reading the images.
[[nodiscard]] Result<std::optional<TopStruct>> top_struct(StockImages& stock,
                                                          const Context& context);

}  // namespace wexlo
