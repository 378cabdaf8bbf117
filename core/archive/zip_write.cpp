#include "archive/zip_write.hpp"

#include <fmt/format.h>
#include <zip.h>

#include <algorithm>

namespace wexlo {
namespace {

/// libzip's view of a zip that is read from one place and written to another.
struct Exchange {
  SourcePtr from;
  std::shared_ptr<Scratch> to;
  const Context& context;
  std::uint64_t read_at = 0, write_at = 0, written = 0;
  bool replaced = false;  ///< what is read from now on is what was written
  zip_error_t error{};
  std::optional<Error> cause{};

  zip_int64_t failed(Error why) {
    cause = std::move(why);
    zip_error_set(&error, ZIP_ER_WRITE, 0);
    return -1;
  }
  [[nodiscard]] std::uint64_t size() const { return replaced ? written : from->size(); }
};

zip_int64_t read_bytes(Exchange& at, void* data, std::uint64_t size) {
  const auto count =
      static_cast<std::size_t>(std::min(size, at.size() - std::min(at.size(), at.read_at)));
  const MutableView out{static_cast<std::byte*>(data), count};
  const Status got =
      at.replaced ? at.to->read_at(at.read_at, out) : at.from->read_at(at.read_at, out);
  if (!got) return at.failed(got.error());
  at.read_at += count;
  return static_cast<zip_int64_t>(count);
}

zip_int64_t write_bytes(Exchange& at, const void* data, std::uint64_t size) {
  if (auto go_on = check_stop(at.context); !go_on) return at.failed(std::move(go_on).error());
  const View bytes{static_cast<const std::byte*>(data), static_cast<std::size_t>(size)};
  if (auto put = at.to->write_at(at.write_at, bytes); !put)
    return at.failed(std::move(put).error());
  at.write_at += size;
  at.written = std::max(at.written, at.write_at);
  return static_cast<zip_int64_t>(size);
}

zip_int64_t seek(Exchange& at, std::uint64_t& place, std::uint64_t size, void* data,
                 std::uint64_t length) {
  const auto to = zip_source_seek_compute_offset(place, size, data, length, &at.error);
  if (to < 0) return -1;
  place = static_cast<std::uint64_t>(to);
  return 0;
}

zip_int64_t exchange_call(void* user, void* data, zip_uint64_t size, zip_source_cmd_t command) {
  auto& at = *static_cast<Exchange*>(user);
  switch (command) {
    case ZIP_SOURCE_SUPPORTS:
      return zip_source_make_command_bitmap(
          ZIP_SOURCE_OPEN, ZIP_SOURCE_READ, ZIP_SOURCE_CLOSE, ZIP_SOURCE_STAT, ZIP_SOURCE_ERROR,
          ZIP_SOURCE_FREE, ZIP_SOURCE_SEEK, ZIP_SOURCE_TELL, ZIP_SOURCE_SUPPORTS,
          ZIP_SOURCE_BEGIN_WRITE, ZIP_SOURCE_WRITE, ZIP_SOURCE_COMMIT_WRITE,
          ZIP_SOURCE_ROLLBACK_WRITE, ZIP_SOURCE_SEEK_WRITE, ZIP_SOURCE_TELL_WRITE,
          ZIP_SOURCE_REMOVE, -1);
    case ZIP_SOURCE_OPEN: at.read_at = 0; return 0;
    case ZIP_SOURCE_READ: return read_bytes(at, data, size);
    case ZIP_SOURCE_SEEK: return seek(at, at.read_at, at.size(), data, size);
    case ZIP_SOURCE_TELL: return static_cast<zip_int64_t>(at.read_at);
    case ZIP_SOURCE_BEGIN_WRITE: at.write_at = at.written = 0; return 0;
    case ZIP_SOURCE_WRITE: return write_bytes(at, data, size);
    case ZIP_SOURCE_SEEK_WRITE: return seek(at, at.write_at, at.written, data, size);
    case ZIP_SOURCE_TELL_WRITE: return static_cast<zip_int64_t>(at.write_at);
    case ZIP_SOURCE_COMMIT_WRITE: at.replaced = true; return 0;
    case ZIP_SOURCE_STAT: {
      auto* stat = static_cast<zip_stat_t*>(data);
      zip_stat_init(stat);
      stat->size = at.size();
      stat->valid = ZIP_STAT_SIZE;
      return sizeof *stat;
    }
    case ZIP_SOURCE_ERROR: return zip_error_to_data(&at.error, data, size);
    default: return 0;
  }
}

/// A new member's content.
struct Content {
  SourcePtr source;
  std::uint64_t at = 0;
  zip_error_t error{};
  std::optional<Error>* cause = nullptr;
};

zip_int64_t content_call(void* user, void* data, zip_uint64_t size, zip_source_cmd_t command) {
  auto& content = *static_cast<Content*>(user);
  switch (command) {
    case ZIP_SOURCE_SUPPORTS:
      return zip_source_make_command_bitmap(ZIP_SOURCE_OPEN, ZIP_SOURCE_READ, ZIP_SOURCE_CLOSE,
                                            ZIP_SOURCE_STAT, ZIP_SOURCE_ERROR, ZIP_SOURCE_FREE,
                                            ZIP_SOURCE_SUPPORTS, -1);
    case ZIP_SOURCE_OPEN: content.at = 0; return 0;
    case ZIP_SOURCE_READ: {
      const auto count = static_cast<std::size_t>(
          std::min<std::uint64_t>(size, content.source->size() - content.at));
      auto got = content.source->read_at(content.at, {static_cast<std::byte*>(data), count});
      if (!got) {
        *content.cause = std::move(got).error();
        zip_error_set(&content.error, ZIP_ER_READ, 0);
        return -1;
      }
      content.at += count;
      return static_cast<zip_int64_t>(count);
    }
    case ZIP_SOURCE_STAT: {
      auto* stat = static_cast<zip_stat_t*>(data);
      zip_stat_init(stat);
      stat->size = content.source->size();
      stat->valid = ZIP_STAT_SIZE;
      return sizeof *stat;
    }
    case ZIP_SOURCE_ERROR: return zip_error_to_data(&content.error, data, size);
    default: return 0;
  }
}

class ZipRewriter {
 public:
  ZipRewriter(const SourcePtr& zip, const Context& context)
      : exchange_{.from = zip, .to = nullptr, .context = context} {}
  ZipRewriter(const ZipRewriter&) = delete;
  ZipRewriter& operator=(const ZipRewriter&) = delete;
  ~ZipRewriter() {
    if (zip_ != nullptr) zip_discard(zip_);
  }

  Result<RewrittenZip> run(const ZipReplacements& replacements) {
    WEXLO_TRY(exchange_.to, Scratch::create());
    zip_error_t error;
    zip_error_init(&error);
    zip_source_t* source = zip_source_function_create(exchange_call, &exchange_, &error);
    if (source != nullptr) zip_ = zip_open_from_source(source, 0, &error);
    if (zip_ == nullptr) {
      if (source != nullptr) zip_source_free(source);
      return failure(&error, "not a readable zip");
    }
    contents_.reserve(replacements.size());
    for (const auto& [name, content] : replacements)
      WEXLO_CHECK(replace(name, content));
    signatures();
    if (zip_close(zip_) != 0) return failure(zip_get_error(zip_), "cannot write the zip");
    zip_ = nullptr;
    out_.source = open_scratch(exchange_.to, exchange_.written, exchange_.from->name());
    return std::move(out_);
  }

 private:
  std::unexpected<Error> failure(zip_error_t* error, std::string_view what) {
    if (exchange_.cause) return fail(*exchange_.cause);
    const int code = zip_error_code_zip(error);
    return fail({.code = code == ZIP_ER_COMPNOTSUPP || code == ZIP_ER_ENCRNOTSUPP
                             ? ErrorCode::Unsupported
                             : ErrorCode::Corrupt,
                 .message = fmt::format("{}: {}", what, zip_error_strerror(error)),
                 .file = exchange_.from->name()});
  }

  Status replace(const std::string& name, const SourcePtr& content) {
    const zip_int64_t found = zip_name_locate(zip_, name.c_str(), ZIP_FL_ENC_RAW);
    if (found < 0)
      return fail({.code = ErrorCode::NotFound,
                   .message = "no such member",
                   .file = exchange_.from->name() + "!" + name});
    const auto index = static_cast<zip_uint64_t>(found);
    zip_stat_t stat;
    if (zip_stat_index(zip_, index, 0, &stat) != 0)
      return failure(zip_get_error(zip_), "a directory entry is damaged");
    contents_.push_back({.source = content, .cause = &exchange_.cause});
    zip_source_t* source = zip_source_function(zip_, content_call, &contents_.back());
    if (source == nullptr) return failure(zip_get_error(zip_), "cannot replace a member");
    if (zip_file_replace(zip_, index, source, 0) != 0) {
      zip_source_free(source);
      return failure(zip_get_error(zip_), "cannot replace a member");
    }
    if (zip_set_file_compression(zip_, index, stat.comp_method, 0) != 0)
      return failure(zip_get_error(zip_), "cannot pack a member as the one before was");
    // The time of the one before: a clock would give other bytes each time.
    if (zip_file_set_mtime(zip_, index, stat.mtime, 0) != 0)
      return failure(zip_get_error(zip_), "cannot set a member's time");
    return {};
  }

  /// A whole-file signature is named by the comment's last six bytes; members may be signed by
  /// lists of digests.
  void signatures() {
    int length = 0;
    const char* comment = zip_get_archive_comment(zip_, &length, ZIP_FL_ENC_RAW);
    constexpr int kTail = 6;
    if (comment != nullptr && length >= kTail &&
        std::string_view(comment + length - 4, 2) == "\xff\xff") {
      zip_set_archive_comment(zip_, nullptr, 0);
      out_.signature_gone = true;
    }
    const zip_int64_t count = zip_get_num_entries(zip_, 0);
    for (zip_int64_t i = 0; i < count; ++i) {
      const char* name = zip_get_name(zip_, static_cast<zip_uint64_t>(i), ZIP_FL_ENC_RAW);
      const std::string_view text = name == nullptr ? "" : name;
      if (text.starts_with("META-INF/") && (text.ends_with(".SF") || text.ends_with(".sf")))
        out_.signature_stale = true;
    }
  }

  Exchange exchange_;
  zip_t* zip_ = nullptr;
  std::vector<Content> contents_;  ///< libzip holds their addresses
  RewrittenZip out_;
};

}  // namespace

Result<RewrittenZip> rewrite_zip(const SourcePtr& zip, const ZipReplacements& replacements,
                                 const Context& context) {
  return ZipRewriter(zip, context).run(replacements);
}

}  // namespace wexlo
