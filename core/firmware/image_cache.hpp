#pragma once
/// Images that were taken out of firmware once, kept for the next kit of a tray: files named by
/// their SHA-256, and small notes that say which partition of which package gave which.

#include <filesystem>
#include <map>
#include <memory>
#include <mutex>

#include "firmware/firmware.hpp"

namespace wexlo {

class ImageCache {
 public:
  /// @param folder  made when something is kept  @param bound  most bytes of all images together
  ImageCache(std::filesystem::path folder, std::uint64_t bound)
      : folder_(std::move(folder)), bound_(bound) {}

  /// The image, when it is kept and still has its digest. @param firmware  path of the package
  [[nodiscard]] std::optional<Blob> find(const PartitionFacts& partition,
                                         const std::string& firmware) const;
  /// Keeps it; of too many, those not used for longest go. What fails is no error: it is a cache.
  void keep(const PartitionFacts& partition, const std::string& firmware, const Blob& image);

  /// Held by whoever takes the image out of its package; others wait for it, and find it then.
  [[nodiscard]] std::unique_lock<std::mutex> alone(const PartitionFacts& partition,
                                                   const std::string& firmware);

  [[nodiscard]] unsigned hits() const { return hits_; }

 private:
  void shrink() const;
  std::filesystem::path folder_;
  std::uint64_t bound_;
  mutable std::mutex mutex_;
  mutable unsigned hits_ = 0;
  std::map<std::string, std::shared_ptr<std::mutex>> working_;  ///< never emptied: a tray is short
};
using ImageCachePtr = std::shared_ptr<ImageCache>;

/// As read_partition, through a cache when there is one.
[[nodiscard]] Result<Blob> read_cached(const ImageCachePtr& cache, const PartitionFacts& partition,
                                       const std::string& firmware, std::uint64_t limit,
                                       const Context& context);

}  // namespace wexlo
