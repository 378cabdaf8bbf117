#pragma once
/// The firmware's own images, read once each when somebody asks for them.

#include <map>

#include "firmware/formats.hpp"
#include "firmware/image_cache.hpp"

namespace wexlo {

class StockImages {
 public:
  /// @param where  the firmware's path, for errors and the cache  @param cache  may be empty
  StockImages(const Firmware& firmware, std::string where, ImageCachePtr cache)
      : firmware_(firmware), where_(std::move(where)), cache_(std::move(cache)) {}

  /// By its name, or as the one slot that holds it. nullptr: the firmware has none of that name.
  /// What is given stays where it is. Errors: Ambiguous, those of reading.
  [[nodiscard]] Result<const LoadedImage*> get(const std::string& partition,
                                               const Context& context);
  /// Whether it is there. Two that answer to a name are: get tells then.
  [[nodiscard]] bool has(const std::string& partition) const;
  /// What was read so far, by partition.
  [[nodiscard]] const std::map<std::string, LoadedImage>& read() const { return images_; }

  [[nodiscard]] const Firmware& firmware() const { return firmware_; }
  [[nodiscard]] const std::string& where() const { return where_; }

 private:
  const Firmware& firmware_;
  std::string where_;
  ImageCachePtr cache_;
  std::map<std::string, LoadedImage> images_;
};

}  // namespace wexlo
