#include "firmware/stock_images.hpp"

namespace wexlo {

Result<const LoadedImage*> StockImages::get(const std::string& partition, const Context& context) {
  if (const auto at = images_.find(partition); at != images_.end()) return &at->second;
  if (!has(partition)) return nullptr;
  WEXLO_CHECK(check_stop(context));
  WEXLO_TRY(const PartitionFacts* const facts, firmware_.choose(partition, where_));
  WEXLO_TRY(const Blob bytes, read_cached(cache_, *facts, where_, kMaxImage, context));
  WEXLO_TRY(LoadedImage image, load_image(bytes, where_ + "!" + partition));
  return &images_.emplace(partition, std::move(image)).first->second;
}

bool StockImages::has(const std::string& partition) const {
  const auto one = firmware_.choose(partition, where_);
  return one || one.error().code != ErrorCode::NotFound;
}

}  // namespace wexlo
