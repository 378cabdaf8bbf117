#include "net/http.hpp"

#include <curl/curl.h>
#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <list>
#include <mutex>
#include <optional>
#include <thread>

#include "base/late_library.hpp"
#include "base/source_read.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

/// Loaded when the first address is opened: with what it needs it is thirty libraries.
struct Curl {
  LateLibrary library{"libcurl.so.4"};
  WEXLO_LATE(library, curl_easy_cleanup);
  WEXLO_LATE(library, curl_easy_init);
  WEXLO_LATE(library, curl_easy_perform);
  WEXLO_LATE(library, curl_easy_reset);
  WEXLO_LATE(library, curl_easy_setopt);
  WEXLO_LATE(library, curl_easy_strerror);
  WEXLO_LATE(library, curl_global_init);
};

const Curl& curl() {
  static const Curl loaded;
  return loaded;
}

constexpr std::uint64_t kHttpBlock = 64u << 10;  ///< small reads are rounded to it
constexpr std::size_t kHttpBlocksKept = 48;
constexpr int kTries = 6;
constexpr long kConnectSeconds = 20, kStalledSeconds = 30, kRedirects = 10;

/// What one answer tells beside its bytes.
struct Answer {
  long status = 0;
  std::optional<std::uint64_t> first, total;  ///< of Content-Range
  std::string version;                        ///< ETag, else Last-Modified
};

struct Transfer {
  MutableView out;
  std::size_t got = 0;
  Answer answer;
  const std::stop_token* stop = nullptr;
  bool surplus = false;
};

std::size_t take_body(char* data, std::size_t unit, std::size_t count, void* user) {
  auto& transfer = *static_cast<Transfer*>(user);
  const std::size_t size = unit * count;
  // A whole file where a range was asked for is not read to its end.
  if (transfer.answer.status != 206 && transfer.answer.status != 0) return 0;
  if (size > transfer.out.size() - transfer.got) {
    transfer.surplus = true;
    return 0;
  }
  std::copy_n(reinterpret_cast<const std::byte*>(data), size,
              transfer.out.begin() + static_cast<std::ptrdiff_t>(transfer.got));
  transfer.got += size;
  return size;
}

std::optional<std::uint64_t> number(std::string_view text) {
  std::uint64_t value = 0;
  const auto [end, bad] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (bad != std::errc() || end == text.data()) return std::nullopt;
  return value;
}

std::size_t take_header(char* data, std::size_t unit, std::size_t count, void* user) {
  auto& answer = static_cast<Transfer*>(user)->answer;
  const std::string_view line(data, unit * count);
  if (line.starts_with("HTTP/")) {  // also of each redirect on the way
    answer = {};
    const std::size_t blank = line.find(' ');
    if (blank != line.npos)
      answer.status = static_cast<long>(number(line.substr(blank + 1)).value_or(0));
    return unit * count;
  }
  const std::size_t colon = line.find(':');
  if (colon == line.npos) return unit * count;
  const std::string name = lower_case(line.substr(0, colon));
  const std::string_view value = trimmed(line.substr(colon + 1));
  if (name == "etag" || (name == "last-modified" && answer.version.empty())) answer.version = value;
  if (name == "content-range" && value.starts_with("bytes ")) {
    answer.first = number(value.substr(6));
    if (const std::size_t slash = value.find('/'); slash != value.npos)
      answer.total = number(value.substr(slash + 1));
  }
  return unit * count;
}

int keep_going(void* user, curl_off_t, curl_off_t, curl_off_t, curl_off_t) {
  return static_cast<Transfer*>(user)->stop->stop_requested() ? 1 : 0;
}

/// The address without what is nobody else's business: name and password in front of the host.
std::string shown(const std::string& url) {
  const std::size_t host = url.find("://") + 3, at = url.find('@', host);
  if (at == url.npos || at > url.find('/', host)) return url;
  return url.substr(0, host) + url.substr(at + 1);
}

class HttpSource final : public Source {
 public:
  HttpSource(std::string url, std::stop_token stop)
      : Source(shown(url)), url_(std::move(url)), stop_(std::move(stop)) {}
  HttpSource(const HttpSource&) = delete;
  HttpSource& operator=(const HttpSource&) = delete;
  ~HttpSource() override {
    for (CURL* handle : idle_)
      curl().curl_easy_cleanup(handle);
  }

  std::uint64_t size() const override { return size_; }

  Status open() {
    std::byte first[1];
    WEXLO_TRY(const Answer answer, fetch_once_more(0, first));
    if (!answer.total)
      return fail({.code = ErrorCode::Unsupported,
                   .message = "the server does not tell the file's size",
                   .file = name(),
                   .hint = "Download the file and give its path."});
    size_ = *answer.total;
    version_ = answer.version;
    return {};
  }

  Status read_at(std::uint64_t offset, MutableView out) const override {
    WEXLO_CHECK(check_range(*this, offset, out.size()));
    if (out.size() >= kHttpBlock) return fetch(offset, out);
    while (!out.empty()) {
      WEXLO_TRY(const auto block, block_at(offset / kHttpBlock));
      const auto inside = static_cast<std::size_t>(offset % kHttpBlock);
      const std::size_t count = std::min(out.size(), block->size() - inside);
      std::copy_n(block->begin() + static_cast<std::ptrdiff_t>(inside), count, out.begin());
      out = out.subspan(count);
      offset += count;
    }
    return {};
  }

 private:
  using Block = std::shared_ptr<const Bytes>;

  Result<Block> block_at(std::uint64_t index) const {
    {
      const std::lock_guard lock(mutex_);
      const auto kept = std::ranges::find(blocks_, index, &std::pair<std::uint64_t, Block>::first);
      if (kept != blocks_.end()) {
        blocks_.splice(blocks_.begin(), blocks_, kept);
        return kept->second;
      }
    }
    const std::uint64_t begin = index * kHttpBlock;
    Bytes bytes(static_cast<std::size_t>(std::min(kHttpBlock, size_ - begin)));
    WEXLO_CHECK(fetch(begin, bytes));
    const std::lock_guard lock(mutex_);
    blocks_.emplace_front(index, std::make_shared<const Bytes>(std::move(bytes)));
    if (blocks_.size() > kHttpBlocksKept) blocks_.pop_back();
    return blocks_.front().second;
  }

  Status fetch(std::uint64_t offset, MutableView out) const {
    WEXLO_CHECK(fetch_once_more(offset, out));
    return {};
  }

  /// Every answer has to be of the range that was asked for, and of the file as it was at first.
  /// Some servers, and caches before them, give another range than they were asked for.
  Status check_range_given(const Answer& answer, std::uint64_t offset) const {
    if (answer.status != 206) return {};
    if (answer.first != offset)
      return fail({.code = ErrorCode::Corrupt,
                   .message = "the server gives another part of the file than it was asked for",
                   .file = name(),
                   .offset = offset,
                   .expected = fmt::format("a part from byte {}", offset),
                   .found = answer.first ? fmt::format("a part from byte {}", *answer.first)
                                         : std::string("no Content-Range"),
                   .hint = "Download the file and give its path."});
    if (size_ == 0 || (answer.total == size_ && answer.version == version_)) return {};
    return fail({.code = ErrorCode::Corrupt,
                 .message = "the file on the server changed while it was read",
                 .file = name(),
                 .expected = told(size_, version_),
                 .found = told(answer.total.value_or(0), answer.version),
                 .hint = "Run it again."});
  }

  static std::string told(std::uint64_t size, const std::string& version) {
    return version.empty() ? fmt::format("{} bytes", size)
                           : fmt::format("{} bytes, version {}", size, version);
  }

  /// Between two tries; ends at once when a stop is asked for.
  void pause(std::chrono::milliseconds time) const {
    constexpr std::chrono::milliseconds kLook{50};
    for (; time.count() > 0 && !stop_.stop_requested(); time -= kLook)
      std::this_thread::sleep_for(std::min(time, kLook));
  }

  /// Fetches a range; what breaks off is taken up again where it stopped.
  Result<Answer> fetch_once_more(std::uint64_t offset, MutableView out) const {
    for (int tries = 1;; ++tries) {
      Transfer transfer{.out = out, .stop = &stop_};
      const CURLcode code = perform(offset, transfer);
      WEXLO_CHECK(stopped());
      WEXLO_CHECK(check_range_given(transfer.answer, offset));
      if (auto refused = judge(transfer); !refused) {
        if (transfer.answer.status < 500 || tries == kTries)
          return fail(std::move(refused).error());
      } else if (transfer.got == out.size() && transfer.answer.status == 206) {
        return transfer.answer;
      } else if (tries == kTries) {
        return fail({.code = ErrorCode::Io,
                     .message = fmt::format("the server cannot be read: {}",
                                            curl().curl_easy_strerror(code)),
                     .file = name(),
                     .offset = offset + transfer.got,
                     .hint = "Check the address and the connection, then run it again."});
      }
      offset += transfer.got;
      out = out.subspan(transfer.got);
      if (transfer.got > 0) tries = 0;  // it goes on: only standing still counts
      pause(std::chrono::milliseconds(100 << std::min(tries, 5)));
    }
  }

  Status stopped() const { return check_stop({.stop = stop_}); }

  /// What the server's own words rule out.
  Status judge(const Transfer& transfer) const {
    const Answer& answer = transfer.answer;
    if (answer.status == 0 || (answer.status == 206 && !transfer.surplus)) return {};
    Error error{.code = ErrorCode::Io,
                .message = "the server refuses the file",
                .file = name(),
                .expected = "status 206 (partial content)",
                .found = fmt::format("status {}", answer.status),
                .hint = "Check the address in a browser."};
    if (answer.status == 404 || answer.status == 410) error.code = ErrorCode::NotFound;
    if (answer.status == 401 || answer.status == 403) error.code = ErrorCode::Permission;
    if (answer.status == 200 || transfer.surplus) {
      error.code = ErrorCode::Unsupported;
      error.message = "the server gives only the whole file, not parts of it";
      error.hint = "Download the file and give its path.";
    }
    if (answer.status == 416) {
      error.code = ErrorCode::Truncated;
      error.message = "the file on the server is empty";
    }
    return fail(std::move(error));
  }

  CURLcode perform(std::uint64_t offset, Transfer& transfer) const {
    CURL* handle = take_handle();
    if (handle == nullptr) return CURLE_OUT_OF_MEMORY;
    const std::string range = fmt::format("{}-{}", offset, offset + transfer.out.size() - 1);
    curl().curl_easy_reset(handle);
    curl().curl_easy_setopt(handle, CURLOPT_URL, url_.c_str());
    curl().curl_easy_setopt(handle, CURLOPT_RANGE, range.c_str());
    curl().curl_easy_setopt(handle, CURLOPT_PROTOCOLS_STR, "http,https");
    curl().curl_easy_setopt(handle, CURLOPT_REDIR_PROTOCOLS_STR, "http,https");
    curl().curl_easy_setopt(handle, CURLOPT_FOLLOWLOCATION, 1L);
    curl().curl_easy_setopt(handle, CURLOPT_MAXREDIRS, kRedirects);
    curl().curl_easy_setopt(handle, CURLOPT_NOSIGNAL, 1L);
    curl().curl_easy_setopt(handle, CURLOPT_CONNECTTIMEOUT, kConnectSeconds);
    curl().curl_easy_setopt(handle, CURLOPT_LOW_SPEED_LIMIT, 1L);
    curl().curl_easy_setopt(handle, CURLOPT_LOW_SPEED_TIME, kStalledSeconds);
    curl().curl_easy_setopt(handle, CURLOPT_USERAGENT, "wexlo");
    curl().curl_easy_setopt(handle, CURLOPT_WRITEFUNCTION, take_body);
    curl().curl_easy_setopt(handle, CURLOPT_WRITEDATA, &transfer);
    curl().curl_easy_setopt(handle, CURLOPT_HEADERFUNCTION, take_header);
    curl().curl_easy_setopt(handle, CURLOPT_HEADERDATA, &transfer);
    curl().curl_easy_setopt(handle, CURLOPT_NOPROGRESS, 0L);
    curl().curl_easy_setopt(handle, CURLOPT_XFERINFOFUNCTION, keep_going);
    curl().curl_easy_setopt(handle, CURLOPT_XFERINFODATA, &transfer);
    const CURLcode code = curl().curl_easy_perform(handle);
    const std::lock_guard lock(mutex_);
    idle_.push_back(handle);
    return code;
  }

  CURL* take_handle() const {
    const std::lock_guard lock(mutex_);
    if (idle_.empty()) return curl().curl_easy_init();
    CURL* handle = idle_.back();
    idle_.pop_back();
    return handle;
  }

  std::string url_, version_;
  std::stop_token stop_;
  std::uint64_t size_ = 0;
  mutable std::mutex mutex_;
  mutable std::vector<CURL*> idle_;
  mutable std::list<std::pair<std::uint64_t, Block>> blocks_;  ///< latest first
};

}  // namespace

bool is_url(std::string_view text) {
  return text.starts_with("http://") || text.starts_with("https://");
}

Result<SourcePtr> open_url(const std::string& url, const Context& context) {
  if (auto loaded = curl().library.status(); !loaded)
    return fail(in_file(std::move(loaded).error(), url));
  static const CURLcode ready = curl().curl_global_init(CURL_GLOBAL_DEFAULT);
  if (ready != CURLE_OK)
    return fail({.code = ErrorCode::Io, .message = "the web library does not start", .file = url});
  auto source = std::make_shared<HttpSource>(url, context.stop);
  WEXLO_CHECK(source->open());
  return source;
}

}  // namespace wexlo
