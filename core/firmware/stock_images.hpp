#pragma once
/// The firmware's own images, read once each when somebody asks for them. Threads: one at a time.

#include <map>

#include "firmware/formats.hpp"
#include "firmware/image_cache.hpp"

namespace wexlo {

class StockImages {
 public:
  /// @param where  the firmware's path, for errors and the cache  @param cache  may be empty
  StockImages(const Firmware& firmware, std::string where, ImageCachePtr cache);
  ~StockImages();

  /// By its name, or as the one slot that holds it. nullptr: the firmware has none of that name.
  /// What is given stays where it is. Errors: Ambiguous, those of reading.
  [[nodiscard]] Result<const LoadedImage*> get(const std::string& partition,
                                               const Context& context);
  /// Begins to read several, side by side and beside the caller, who will get them all: get waits
  /// for the one that it is asked for. What fails is left for get to tell; what nobody got is
  /// dropped with this. One job: nothing is done. Called once at most.
  /// @param partitions  with or without their slots, the one that is got first in front
  void read_ahead(const std::vector<std::string>& partitions, const Context& context);
  /// SHA-256 of an image that was got, lower-case hex: what its package promised and reading it
  /// checked, else counted once. Precondition: get gave it.
  [[nodiscard]] const std::string& sha256(const std::string& partition);
  /// Whether it is there. Two that answer to a name are: get tells then.
  [[nodiscard]] bool has(const std::string& partition) const;
  /// What was read so far, by partition.
  [[nodiscard]] const std::map<std::string, LoadedImage>& read() const { return images_; }

  [[nodiscard]] const Firmware& firmware() const { return firmware_; }
  [[nodiscard]] const std::string& where() const { return where_; }

 private:
  [[nodiscard]] Result<LoadedImage> load(const PartitionFacts& facts, const std::string& partition,
                                         const Context& context) const;

  const Firmware& firmware_;
  std::string where_;
  ImageCachePtr cache_;
  std::map<std::string, LoadedImage> images_;
  std::map<std::string, std::string> digests_;
  class Ahead;
  std::unique_ptr<Ahead> ahead_;  ///< last: what it reads uses the others
};

}  // namespace wexlo
