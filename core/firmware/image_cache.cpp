#include "firmware/image_cache.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/digest.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

constexpr std::uint64_t kMaxKept = 256u << 20;  ///< a single image; larger ones are not kept

/// Where the note on a partition is: a package that was written again since is another one.
std::optional<std::string> note_name(const PartitionFacts& partition, const std::string& firmware) {
  std::error_code error;
  const fs::path path = fs::canonical(firmware, error);
  if (error || !fs::is_regular_file(path, error)) return std::nullopt;
  const auto size = fs::file_size(path, error);
  const auto time = fs::last_write_time(path, error).time_since_epoch().count();
  if (error) return std::nullopt;
  return sha256_hex(as_view(fmt::format("{}\n{}\n{}\n{}\n{}", path.string(), size, time,
                                        partition.name, partition.from)));
}

std::optional<Blob> read_small(const fs::path& file, std::uint64_t limit) {
  const auto source = open_file(file);
  if (!source) return std::nullopt;
  auto bytes = read_all(**source, limit);
  return bytes ? std::optional(std::move(*bytes)) : std::nullopt;
}

bool is_digest(std::string_view text) {
  return text.size() == 64 && text.find_first_not_of("0123456789abcdef") == text.npos;
}

}  // namespace

std::optional<Blob> ImageCache::find(const PartitionFacts& partition,
                                     const std::string& firmware) const {
  std::string digest = partition.sha256;
  if (digest.empty()) {
    const auto note = note_name(partition, firmware);
    const auto text = note ? read_small(folder_ / "known" / *note, 64) : std::nullopt;
    if (!text) return std::nullopt;
    digest = as_text(text->view());
  }
  if (!is_digest(digest)) return std::nullopt;
  const fs::path file = folder_ / "images" / digest;
  auto image = read_small(file, kMaxKept);
  if (!image || sha256_hex(image->view()) != digest) return std::nullopt;
  std::error_code ignored;
  fs::last_write_time(file, fs::file_time_type::clock::now(), ignored);
  const std::lock_guard lock(mutex_);
  ++hits_;
  return image;
}

void ImageCache::keep(const PartitionFacts& partition, const std::string& firmware,
                      const Blob& image) {
  if (image.size() > std::min(kMaxKept, bound_)) return;
  const std::lock_guard lock(mutex_);
  std::error_code error;
  fs::create_directories(folder_ / "images", error);
  fs::create_directories(folder_ / "known", error);
  if (error) return;
  const std::string digest = sha256_hex(image.view());
  const auto put = [](const fs::path& file, View bytes) {
    return write_file(file, bytes, Overwrite::Replace, Flush::Leave).has_value();
  };
  const fs::path file = folder_ / "images" / digest;
  if (!fs::exists(file, error) && !put(file, image.view())) return;
  if (partition.sha256.empty())
    if (const auto note = note_name(partition, firmware))
      if (!put(folder_ / "known" / *note, as_view(digest))) return;
  shrink();
}

void ImageCache::shrink() const {
  struct Kept {
    fs::path path;
    std::uint64_t size;
    fs::file_time_type used;
  };
  std::vector<Kept> all;
  std::uint64_t sum = 0;
  std::error_code error;
  for (const auto& one : fs::directory_iterator(folder_ / "images", error)) {
    const std::uint64_t size = one.file_size(error);
    if (error) continue;
    all.push_back({one.path(), size, one.last_write_time(error)});
    sum += size;
  }
  if (sum <= bound_) return;
  std::ranges::sort(all, {}, &Kept::used);
  for (const Kept& one : all) {
    if (sum <= bound_) break;
    if (fs::remove(one.path, error)) sum -= one.size;
  }
  // Notes on what went are of no use any more.
  std::vector<fs::path> stale;
  for (const auto& one : fs::directory_iterator(folder_ / "known", error)) {
    const auto digest = read_small(one.path(), 64);
    if (!digest || !fs::exists(folder_ / "images" / as_text(digest->view()), error))
      stale.push_back(one.path());
  }
  for (const fs::path& one : stale)
    fs::remove(one, error);
}

std::unique_lock<std::mutex> ImageCache::alone(const PartitionFacts& partition,
                                               const std::string& firmware) {
  const std::string key = partition.sha256.empty()
                              ? note_name(partition, firmware).value_or(partition.name)
                              : partition.sha256;
  std::shared_ptr<std::mutex> one;
  {
    const std::lock_guard lock(mutex_);
    std::shared_ptr<std::mutex>& kept = working_[key];
    if (!kept) kept = std::make_shared<std::mutex>();
    one = kept;
  }
  return std::unique_lock(*one);
}

Result<Blob> read_cached(const ImageCachePtr& cache, const PartitionFacts& partition,
                         const std::string& firmware, std::uint64_t limit, const Context& context) {
  std::unique_lock<std::mutex> alone;
  if (cache) {
    // The kit beside this one may want the same image: it is taken out once.
    alone = cache->alone(partition, firmware);
    if (auto found = cache->find(partition, firmware)) return *found;
  }
  WEXLO_TRY(Blob image, read_partition(partition, limit, context));
  if (cache) cache->keep(partition, firmware, image);
  return image;
}

}  // namespace wexlo
