#include "archive/zip.hpp"

#include <fmt/format.h>
#include <zip.h>

#include <algorithm>
#include <mutex>
#include <utility>

#include "base/crc.hpp"
#include "codec/unpacked.hpp"

namespace wexlo {
namespace {

constexpr std::uint64_t kMaxZipMembers = 1'000'000;

/// libzip's view of a Source. It also remembers where libzip read last: the first byte of a stored
/// member tells where the member lies, which libzip itself does not say.
struct ZipFeed {
  SourcePtr source;
  std::uint64_t at = 0;
  std::uint64_t last_read_at = 0;
  zip_error_t error{};
  std::optional<Error> cause;
};

zip_int64_t feed_call(void* user, void* data, zip_uint64_t size, zip_source_cmd_t command) {
  auto& feed = *static_cast<ZipFeed*>(user);
  switch (command) {
    case ZIP_SOURCE_SUPPORTS:
      return zip_source_make_command_bitmap(
          ZIP_SOURCE_OPEN, ZIP_SOURCE_READ, ZIP_SOURCE_CLOSE, ZIP_SOURCE_STAT, ZIP_SOURCE_ERROR,
          ZIP_SOURCE_FREE, ZIP_SOURCE_SEEK, ZIP_SOURCE_TELL, ZIP_SOURCE_SUPPORTS, -1);
    case ZIP_SOURCE_OPEN: feed.at = 0; return 0;
    case ZIP_SOURCE_READ: {
      const std::uint64_t left = feed.source->size() - feed.at;
      const auto count = static_cast<std::size_t>(std::min<std::uint64_t>(size, left));
      if (auto got = feed.source->read_at(feed.at, {static_cast<std::byte*>(data), count}); !got) {
        feed.cause = std::move(got).error();
        zip_error_set(&feed.error, ZIP_ER_READ, 0);
        return -1;
      }
      feed.last_read_at = feed.at;
      feed.at += count;
      return static_cast<zip_int64_t>(count);
    }
    case ZIP_SOURCE_SEEK: {
      const auto to =
          zip_source_seek_compute_offset(feed.at, feed.source->size(), data, size, &feed.error);
      if (to < 0) return -1;
      feed.at = static_cast<std::uint64_t>(to);
      return 0;
    }
    case ZIP_SOURCE_TELL: return static_cast<zip_int64_t>(feed.at);
    case ZIP_SOURCE_STAT: {
      auto* stat = static_cast<zip_stat_t*>(data);
      zip_stat_init(stat);
      stat->size = feed.source->size();
      stat->valid = ZIP_STAT_SIZE;
      return sizeof *stat;
    }
    case ZIP_SOURCE_ERROR: return zip_error_to_data(&feed.error, data, size);
    default: return 0;
  }
}

Error zip_failure(const zip_error_t* error, const std::string& file, std::string_view what) {
  const int code = zip_error_code_zip(error);
  Error out{
      .code = ErrorCode::Corrupt,
      .message = fmt::format("{}: {}", what, zip_error_strerror(const_cast<zip_error_t*>(error))),
      .file = file,
      .hint = "Fetch the package again; compare its size and digest with the source's."};
  if (code == ZIP_ER_NOZIP) {
    out.code = ErrorCode::BadMagic;
    out.message = "the zip is cut short or damaged: its directory at the end is not there";
    out.hint = "Fetch it again, and compare its size with the source's.";
  }
  if (code == ZIP_ER_COMPNOTSUPP || code == ZIP_ER_ENCRNOTSUPP) out.code = ErrorCode::Unsupported;
  return out;
}

Compression method_of(int id) {
  constexpr int kZstd = 93;  // older releases of the library have no name for it
  switch (id) {
    case ZIP_CM_DEFLATE: return Compression::Deflate;
    case ZIP_CM_BZIP2: return Compression::Bzip2;
    case ZIP_CM_LZMA: return Compression::Lzma;
    case ZIP_CM_XZ: return Compression::Xz;
    case kZstd: return Compression::Zstd;
    default: return Compression::None;
  }
}

/// A zip puts a version and the size of the properties before an lzma stream, and leaves its own
/// size out; the stream's usual header has it behind the properties.
Result<SourcePtr> with_lzma_header(const SourcePtr& raw, std::uint64_t size) {
  constexpr std::size_t kLead = 4, kProperties = 5;
  WEXLO_TRY(const Bytes lead, read_some(*raw, 0, kLead + kProperties));
  if (lead.size() < kLead + kProperties || load<std::uint16_t, LE>(lead.data() + 2) != kProperties)
    return fail({.code = ErrorCode::Corrupt,
                 .message = "the member's lzma properties are damaged",
                 .file = raw->name(),
                 .offset = 2,
                 .hint = "The package is damaged: fetch it again."});
  Bytes header(lead.begin() + kLead, lead.end());
  LeWriter(header).put<std::uint64_t>(size);
  const std::uint64_t header_size = header.size();
  return open_joined({{open_memory(Blob(std::move(header)), raw->name()), 0, header_size},
                      {raw, lead.size(), raw->size() - lead.size()}},
                     raw->name());
}

}  // namespace

struct ZipArchive::State {
  ZipFeed feed;
  zip_t* zip = nullptr;
  std::mutex mutex;  ///< a zip_t serves one thread at a time
  std::uint64_t index_of(const ZipArchive& owner, const ZipMember& member) const {
    return static_cast<std::uint64_t>(&member - owner.members_.data());
  }
  Error error(zip_error_t* from, std::string_view what) {
    if (feed.cause) return *std::exchange(feed.cause, {});
    return zip_failure(from, feed.source->name(), what);
  }
};

bool looks_like_zip(View start) {
  return as_text(start).starts_with("PK\x03\x04") || as_text(start).starts_with("PK\x05\x06");
}

ZipArchive::ZipArchive() : state_(std::make_unique<State>()) {}

ZipArchive::~ZipArchive() {
  if (state_->zip != nullptr) zip_discard(state_->zip);
}

Result<std::shared_ptr<const ZipArchive>> ZipArchive::open(SourcePtr source) {
  std::shared_ptr<ZipArchive> archive(new ZipArchive());
  State& state = *archive->state_;
  // The library takes an empty file for an empty zip.
  if (source->size() == 0)
    return fail({.code = ErrorCode::BadMagic, .message = "an empty file", .file = source->name()});
  state.feed.source = std::move(source);
  zip_error_t error;
  zip_error_init(&error);
  zip_source_t* feed = zip_source_function_create(feed_call, &state.feed, &error);
  if (feed != nullptr) state.zip = zip_open_from_source(feed, ZIP_RDONLY, &error);
  if (state.zip == nullptr) {
    if (feed != nullptr) zip_source_free(feed);
    return fail(state.error(&error, "the zip does not open"));
  }
  const auto count = static_cast<std::uint64_t>(zip_get_num_entries(state.zip, 0));
  if (count > kMaxZipMembers)
    return fail({.code = ErrorCode::LimitExceeded,
                 .message = "the zip has too many members",
                 .file = state.feed.source->name(),
                 .expected = fmt::format("at most {}", kMaxZipMembers),
                 .found = fmt::format("{}", count)});
  archive->members_.reserve(count);
  for (std::uint64_t i = 0; i < count; ++i) {
    zip_stat_t stat;
    if (zip_stat_index(state.zip, i, ZIP_FL_ENC_RAW, &stat) != 0)
      return fail(state.error(zip_get_error(state.zip), "a directory entry is damaged"));
    archive->members_.push_back({.name = stat.name,
                                 .size = stat.size,
                                 .stored_size = stat.comp_size,
                                 .stored = stat.comp_method == ZIP_CM_STORE,
                                 .method = method_of(stat.comp_method),
                                 .method_id = stat.comp_method,
                                 .crc = stat.crc,
                                 .encrypted = stat.encryption_method != ZIP_EM_NONE});
  }
  return archive;
}

const ZipMember* ZipArchive::find(std::string_view name) const {
  const auto at = std::ranges::find(members_, name, &ZipMember::name);
  return at == members_.end() ? nullptr : &*at;
}

Result<SourcePtr> ZipArchive::raw_window(const ZipMember& member) const {
  State& state = *state_;
  const std::string name = state.feed.source->name() + "!" + member.name;
  if (member.encrypted)
    return fail({.code = ErrorCode::Unsupported,
                 .message = "the member is encrypted",
                 .file = name,
                 .hint = "Unpack the zip with its password and give the folder."});
  if (member.stored_size == 0) return open_memory({}, name);
  const std::lock_guard lock(state.mutex);
  zip_file_t* file = zip_fopen_index(state.zip, state.index_of(*this, member), ZIP_FL_COMPRESSED);
  if (file == nullptr) return fail(state.error(zip_get_error(state.zip), "cannot open " + name));
  char first = 0;
  const auto got = zip_fread(file, &first, 1);
  const std::uint64_t begin = state.feed.last_read_at;
  zip_fclose(file);
  if (got != 1)
    return fail({.code = ErrorCode::Truncated,
                 .message = "the member lies outside the zip",
                 .file = name,
                 .hint = "The package may be cut short: compare its size with the source's."});
  return open_window(state.feed.source, begin, member.stored_size, name);
}

Result<SourcePtr> ZipArchive::window(const ZipMember& member) const {
  if (member.stored) return raw_window(member);
  return fail({.code = ErrorCode::Unsupported,
               .message = "the member is compressed where it should be stored",
               .file = state_->feed.source->name() + "!" + member.name,
               .hint = "Unpack the zip and give the file inside it."});
}

Result<SourcePtr> ZipArchive::open_member(const ZipMember& member, const Context& context) const {
  WEXLO_TRY(SourcePtr raw, raw_window(member));
  if (member.stored) {
    if (member.size == member.stored_size)
      return with_check(raw, "crc-32", [crc = member.crc, name = raw->name()] {
        return std::make_unique<CrcChecker>(crc, name);
      });
    return fail({.code = ErrorCode::Corrupt,
                 .message = "a stored member has two sizes",
                 .file = raw->name(),
                 .expected = fmt::format("{} bytes", member.size),
                 .found = fmt::format("{} bytes", member.stored_size)});
  }
  if (member.method == Compression::None)
    return fail({.code = ErrorCode::Unsupported,
                 .message = fmt::format("the member is packed by method {}", member.method_id),
                 .file = raw->name(),
                 .expected = "stored, deflate, bzip2, lzma, xz or zstd",
                 .hint = "Unpack the zip and give the folder."});
  if (member.method == Compression::Lzma) {
    WEXLO_TRY(raw, with_lzma_header(raw, member.size));
  }
  return open_unpacked({.source = std::move(raw),
                        .kind = member.method,
                        .size = member.size,
                        .crc = member.crc,
                        .joined = false},
                       context);
}

Bundle bundle_of(const std::shared_ptr<const ZipArchive>& zip, const std::string& name) {
  Bundle out{.name = name};
  for (const ZipMember& member : zip->members()) {
    if (member.name.ends_with('/')) continue;
    std::string path = member.name;
    std::ranges::replace(path, '\\', '/');  // packers on some systems write it so
    out.items.push_back({.path = std::move(path),
                         .size = member.size,
                         .stored_size = member.stored_size,
                         .open = [zip, &member](const Context& context) {
                           return zip->open_member(member, context);
                         }});
  }
  return out;
}

Result<Bytes> ZipArchive::read(const ZipMember& member, std::uint64_t limit) const {
  State& state = *state_;
  const std::string name = state.feed.source->name() + "!" + member.name;
  if (member.size > limit)
    return fail({.code = ErrorCode::LimitExceeded,
                 .message = "the member is too large",
                 .file = name,
                 .expected = fmt::format("at most {} bytes", limit),
                 .found = fmt::format("{} bytes", member.size)});
  if (member.encrypted)
    return fail({.code = ErrorCode::Unsupported,
                 .message = "the member is encrypted",
                 .file = name,
                 .hint = "Unpack the zip and give the file inside it."});
  const std::lock_guard lock(state.mutex);
  zip_file_t* file = zip_fopen_index(state.zip, state.index_of(*this, member), 0);
  if (file == nullptr) return fail(state.error(zip_get_error(state.zip), "cannot open " + name));
  // One byte more than promised is asked for, so that the end is seen and the CRC is checked.
  Bytes bytes(static_cast<std::size_t>(member.size) + 1);
  std::size_t size = 0;
  zip_int64_t got = 0;
  while (size < bytes.size() &&
         (got = zip_fread(file, bytes.data() + size, bytes.size() - size)) > 0)
    size += static_cast<std::size_t>(got);
  std::optional<Error> bad;
  if (got < 0) bad = state.error(zip_file_get_error(file), "cannot read " + name);
  zip_fclose(file);
  if (bad) return fail(std::move(*bad));
  if (size != member.size)
    return fail({.code = ErrorCode::Corrupt,
                 .message = "the member's size is not what the directory says",
                 .file = name,
                 .expected = fmt::format("{} bytes", member.size),
                 .found = fmt::format("{} bytes", size)});
  bytes.resize(size);
  return bytes;
}

}  // namespace wexlo
