#include "firmware/stock_images.hpp"

#include <algorithm>
#include <future>

#include "base/contains.hpp"
#include "base/digest.hpp"
#include "image/partitions.hpp"

namespace wexlo {

/// Images on their way.
class StockImages::Ahead {
 public:
  explicit Ahead(const Context& context)
      : stop_with_(context.stop, Stop{stop_}), context_(with_stop(context)), tasks_(context_) {}
  ~Ahead() { stop_.request_stop(); }  // then the tasks are waited for

  using Read = std::optional<LoadedImage>;
  /// @param read  is given this object's context
  void add(const std::string& partition, std::function<Read(const Context&)> read) {
    const auto promise = std::make_shared<std::promise<Read>>();
    images_.emplace(partition, promise->get_future());
    tasks_.submit(0, [this, promise, read = std::move(read)]() -> Status {
      promise->set_value(read(context_));
      return {};
    });
  }
  /// nullopt: it is none of these, or does not read.
  Read take(const std::string& partition) {
    const auto at = images_.find(partition);
    if (at == images_.end()) return std::nullopt;
    std::future<Read> image = std::move(at->second);
    images_.erase(at);
    // A task that was dropped, or that threw, has no answer.
    return image.valid() ? answer(image) : std::nullopt;
  }

 private:
  struct Stop {
    std::stop_source& source;
    void operator()() const { source.request_stop(); }
  };
  Context with_stop(const Context& context) const {
    Context out = context;
    out.stop = stop_.get_token();
    return out;
  }
  static Read answer(std::future<Read>& image) {
    try {
      return image.get();
    } catch (const std::future_error&) {
      return std::nullopt;
    }
  }

  std::stop_source stop_;
  std::stop_callback<Stop> stop_with_;
  Context context_;
  std::map<std::string, std::future<Read>> images_;
  TaskGroup tasks_;  ///< last: it waits for its tasks before what they use is gone
};

StockImages::StockImages(const Firmware& firmware, std::string where, ImageCachePtr cache)
    : firmware_(firmware), where_(std::move(where)), cache_(std::move(cache)) {}
StockImages::~StockImages() = default;

Result<const LoadedImage*> StockImages::get(const std::string& partition, const Context& context) {
  if (const auto at = images_.find(partition); at != images_.end()) return &at->second;
  if (!has(partition)) return nullptr;
  WEXLO_CHECK(check_stop(context));
  if (ahead_)
    if (auto read = ahead_->take(partition))
      return &images_.emplace(partition, std::move(*read)).first->second;
  WEXLO_TRY(const PartitionFacts* const facts, firmware_.choose(partition, where_));
  WEXLO_TRY(LoadedImage image, load(*facts, partition, context));
  return &images_.emplace(partition, std::move(image)).first->second;
}

Result<LoadedImage> StockImages::load(const PartitionFacts& facts, const std::string& partition,
                                      const Context& context) const {
  WEXLO_TRY(const Blob bytes, read_cached(cache_, facts, where_, kMaxImage, context));
  return load_image(bytes, where_ + "!" + partition);
}

void StockImages::read_ahead(const std::vector<std::string>& partitions, const Context& context) {
  if (context.jobs < 2) return;
  std::vector<std::pair<std::string, const PartitionFacts*>> wanted;
  for (const std::string& name : partitions) {
    const std::string partition(without_slot(name));
    const auto facts = firmware_.choose(partition, where_);
    if (facts && !images_.contains(partition) &&
        !contains(wanted, partition, &decltype(wanted)::value_type::first))
      wanted.emplace_back(partition, *facts);
  }
  // Progress is shown of the longest alone: of several at once it would jump.
  const auto longest =
      std::ranges::max_element(wanted, {}, [](const auto& one) { return one.second->size; });
  ahead_ = std::make_unique<Ahead>(context);
  for (auto one = wanted.begin(); one != wanted.end(); ++one)
    ahead_->add(
        one->first,
        [this, partition = one->first, facts = one->second,
         progress = one == longest ? context.progress : nullptr](Context own) -> Ahead::Read {
          own.progress = progress;
          auto image = load(*facts, partition, own);
          // Beside others there may have been no room for it: get tries it once more, and tells.
          return image ? Ahead::Read(std::move(*image)) : std::nullopt;
        });
}

const std::string& StockImages::sha256(const std::string& partition) {
  std::string& out = digests_[partition];
  if (!out.empty()) return out;
  const auto facts = firmware_.choose(partition, where_);
  out = facts && !(*facts)->sha256.empty() ? (*facts)->sha256
                                           : sha256_hex(images_.at(partition).bytes.view());
  return out;
}

bool StockImages::has(const std::string& partition) const {
  const auto one = firmware_.choose(partition, where_);
  return one || one.error().code != ErrorCode::NotFound;
}

}  // namespace wexlo
