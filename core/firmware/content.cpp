#include "firmware/content.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <condition_variable>
#include <cstring>
#include <deque>
#include <mutex>
#include <thread>

namespace wexlo {
namespace {

constexpr std::size_t kContentPiece = 1u << 20;
constexpr std::size_t kQueued = 3;  ///< pieces that wait for the digests

/// Digests of bytes that come in order, counted by a thread of its own when there is more than one
/// job: reading and writing go on meanwhile.
class DigestLine {
 public:
  DigestLine(std::vector<DigestKind> kinds, std::unique_ptr<Checker> checker, bool threaded)
      : kinds_(std::move(kinds)), checker_(std::move(checker)) {
    for (const DigestKind kind : kinds_)
      hashers_.emplace_back(kind);
    if (threaded && !idle()) thread_ = std::jthread([this] { work(); });
  }
  DigestLine(const DigestLine&) = delete;
  DigestLine& operator=(const DigestLine&) = delete;
  ~DigestLine() { close(); }

  [[nodiscard]] bool idle() const { return hashers_.empty() && !checker_; }

  /// Takes the bytes over. @param zeros  instead of bytes, when not 0
  void put(std::shared_ptr<const Bytes> bytes, std::size_t size, std::uint64_t zeros) {
    if (idle()) return;
    if (!thread_.joinable()) return count({std::move(bytes), size, zeros});
    std::unique_lock lock(mutex_);
    changed_.wait(lock, [&] { return queue_.size() < kQueued; });
    queue_.push_back({std::move(bytes), size, zeros});
    changed_.notify_all();
  }

  std::vector<std::string> finish() {
    close();
    std::vector<std::string> out;
    for (Hasher& hasher : hashers_)
      out.push_back(hex(hasher.finish()));
    return out;
  }
  Status checked() { return checker_ ? checker_->finish() : Status(); }

 private:
  struct Job {
    std::shared_ptr<const Bytes> bytes;
    std::size_t size = 0;
    std::uint64_t zeros = 0;
  };

  void close() {
    {
      const std::lock_guard lock(mutex_);
      closing_ = true;
    }
    changed_.notify_all();
    if (thread_.joinable()) thread_.join();
  }

  void work() {
    for (;;) {
      std::unique_lock lock(mutex_);
      changed_.wait(lock, [&] { return closing_ || !queue_.empty(); });
      if (queue_.empty()) return;
      const Job job = queue_.front();
      lock.unlock();
      count(job);
      lock.lock();
      queue_.pop_front();
      changed_.notify_all();
    }
  }

  void count(const Job& job) {
    if (job.zeros == 0) {
      const View bytes = View(*job.bytes).first(job.size);
      for (Hasher& hasher : hashers_)
        hasher.update(bytes);
      if (checker_) checker_->data(bytes);
      return;
    }
    static const Bytes zeros(64u << 10);
    for (std::uint64_t left = hashers_.empty() ? 0 : job.zeros; left > 0;) {
      const View part = View(zeros).first(std::min<std::uint64_t>(zeros.size(), left));
      for (Hasher& hasher : hashers_)
        hasher.update(part);
      left -= part.size();
    }
    if (checker_) checker_->zeros(job.zeros);
  }

  std::vector<DigestKind> kinds_;
  std::vector<Hasher> hashers_;
  std::unique_ptr<Checker> checker_;
  std::mutex mutex_;
  std::condition_variable changed_;
  std::deque<Job> queue_;
  bool closing_ = false;
  std::jthread thread_;
};

/// Buffers that are used again once the digests are through with them.
class Buffers {
 public:
  std::shared_ptr<Bytes> take() {
    for (auto& one : all_)
      if (one.use_count() == 1) {
        // The other thread has let go of it: what it read is read.
        std::atomic_thread_fence(std::memory_order_acquire);
        return one;
      }
    return all_.emplace_back(std::make_shared<Bytes>(kContentPiece));
  }

 private:
  std::vector<std::shared_ptr<Bytes>> all_;
};

class SourceContent final : public Content {
 public:
  SourceContent(SourcePtr source, std::vector<Promise> promises)
      : source_(std::move(source)), promises_(std::move(promises)) {}
  Result<Bytes> head(std::size_t count) const override {
    return read_some(*source_, 0, std::min<std::uint64_t>(count, kHeadBudget));
  }
  Result<SourcePtr> source(const Context&) const override { return source_; }
  const void* stream() const override { return source_->stream(); }
  Result<Verified> read(ImageSink& sink, const ReadOptions& options,
                        const Context& context) const override {
    return copy_source(*source_, promises_, sink, options, context);
  }

 private:
  SourcePtr source_;
  std::vector<Promise> promises_;
};

class Unreadable final : public Content {
 public:
  explicit Unreadable(Error why) : why_(std::move(why)) {}
  Result<Bytes> head(std::size_t) const override { return fail(why_); }
  Result<SourcePtr> source(const Context&) const override { return fail(why_); }
  Result<Verified> read(ImageSink&, const ReadOptions&, const Context&) const override {
    return fail(why_);
  }

 private:
  Error why_;
};

class ScratchSink final : public ImageSink {
 public:
  explicit ScratchSink(const Scratch& scratch) : scratch_(scratch) {}
  Status resize(std::uint64_t size) override { return scratch_.resize(size); }
  Status write_at(std::uint64_t offset, View bytes) override {
    return scratch_.write_at(offset, bytes);
  }
  Status read_at(std::uint64_t offset, MutableView out) override {
    return scratch_.read_at(offset, out);
  }

 private:
  const Scratch& scratch_;
};

Status check_promises(const std::vector<Promise>& promises, const std::vector<std::string>& found,
                      const std::string& name) {
  for (std::size_t i = 0; i < promises.size(); ++i)
    if (found[i] != promises[i].hex)
      return fail({.code = ErrorCode::DigestMismatch,
                   .message = fmt::format("the image does not have the {} that {} promises",
                                          digest_name(promises[i].kind), promises[i].by),
                   .file = name,
                   .expected = promises[i].hex,
                   .found = found[i],
                   .hint = "The package is damaged or was put together from two builds: fetch it "
                           "again."});
  return {};
}

}  // namespace

bool all_zero(View bytes) {
  return bytes.empty() || (bytes[0] == std::byte{0} &&
                           std::memcmp(bytes.data(), bytes.data() + 1, bytes.size() - 1) == 0);
}

ContentPtr content_of(SourcePtr source, std::vector<Promise> promises) {
  return std::make_shared<SourceContent>(std::move(source), std::move(promises));
}

ContentPtr unreadable(Error why) {
  return std::make_shared<Unreadable>(std::move(why));
}

Status check_image_size(std::uint64_t size, const std::string& name, const Context& context) {
  const std::uint64_t most = std::max(kMostImage, context.decode_bound);
  if (size <= most) return {};
  return fail({.code = ErrorCode::LimitExceeded,
               .message = "the image is larger than any phone's partition",
               .file = name,
               .expected = fmt::format("at most {} bytes", most),
               .found = fmt::format("{} bytes", size),
               .hint = "If that is right, say how large images may be: --limit SIZE."});
}

Result<Verified> copy_source(const Source& source, const std::vector<Promise>& promises,
                             ImageSink& sink, const ReadOptions& options, const Context& context) {
  std::vector<DigestKind> kinds;
  for (const Promise& promise : promises)
    kinds.push_back(promise.kind);
  const auto promised = std::ranges::find(promises, DigestKind::Sha256, &Promise::kind);
  const auto sha256_at = static_cast<std::size_t>(promised - promises.begin());
  const bool own = options.digest && promised == promises.end();
  if (own) kinds.push_back(DigestKind::Sha256);
  const std::uint64_t size = source.size();
  WEXLO_CHECK(check_image_size(size, source.name(), context));
  WEXLO_CHECK(sink.resize(size));
  DigestLine digests(std::move(kinds), source.checker(), context.jobs > 1);
  Buffers buffers;
  for (std::uint64_t at = 0; at < size;) {
    WEXLO_CHECK(check_stop(context));
    WEXLO_TRY(const Stretch stretch, source.stretch_at(at));
    if (stretch.size == 0 || stretch.size > size - at)
      return fail({.code = ErrorCode::Corrupt,
                   .message = "the image's extents do not cover it",
                   .file = source.name(),
                   .offset = at});
    if (stretch.hole) {
      digests.put({}, 0, stretch.size);
      at += stretch.size;
    } else {
      const auto buffer = buffers.take();
      const auto count =
          static_cast<std::size_t>(std::min<std::uint64_t>(kContentPiece, stretch.size));
      const MutableView piece = MutableView(*buffer).first(count);
      WEXLO_CHECK(source.read_at(at, piece));
      digests.put(buffer, count, 0);
      WEXLO_CHECK(sink.write_at(at, piece));
      at += count;
    }
    if (context.progress) context.progress(at, size);
  }
  const auto found = digests.finish();
  WEXLO_CHECK(check_promises(promises, found, source.name()));
  WEXLO_CHECK(digests.checked());
  Verified out;
  if (own || promised != promises.end()) out.sha256 = found[own ? found.size() - 1 : sha256_at];
  out.proof = promises.empty() ? source.own_check() : digest_name(promises.front().kind);
  out.remark = source.remark();
  return out;
}

Result<std::string> digest_of(ImageSink& sink, std::uint64_t size, const Context& context) {
  Hasher hasher(DigestKind::Sha256);
  Bytes chunk(kContentPiece);
  for (std::uint64_t at = 0; at < size; at += kContentPiece) {
    WEXLO_CHECK(check_stop(context));
    const auto part = MutableView(chunk).first(std::min<std::uint64_t>(kContentPiece, size - at));
    WEXLO_CHECK(sink.read_at(at, part));
    hasher.update(part);
  }
  return hex(hasher.finish());
}

std::unique_ptr<ImageSink> scratch_sink(const Scratch& scratch) {
  return std::make_unique<ScratchSink>(scratch);
}

Result<SourcePtr> spill(const Content& content, std::uint64_t size, const std::string& name,
                        const Context& context) {
  WEXLO_TRY(auto scratch, Scratch::create());
  ScratchSink sink(*scratch);
  WEXLO_CHECK(content.read(sink, {.digest = false}, context));
  return open_scratch(std::move(scratch), size, name);
}

}  // namespace wexlo
