#include "archive/tar.hpp"

#include <archive.h>
#include <archive_entry.h>
#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "base/source_read.hpp"

namespace wexlo {
namespace {

constexpr std::size_t kMaxTarMembers = 100'000;
constexpr std::size_t kLongestLine = 4096;

/// The library's view of a source. It is asked for small pieces: headers are all that is wanted.
struct TarFeed {
  SourcePtr source;
  std::uint64_t at = 0;
  Bytes buffer{};
  std::optional<Error> cause{};
};

la_ssize_t feed_read(archive* reader, void* user, const void** out) {
  auto& feed = *static_cast<TarFeed*>(user);
  auto some = read_some(*feed.source, feed.at, 4 * kTarBlock);
  if (!some) {
    feed.cause = std::move(some).error();
    archive_set_error(reader, EIO, "cannot read");
    return ARCHIVE_FATAL;
  }
  feed.buffer = std::move(*some);
  feed.at += feed.buffer.size();
  *out = feed.buffer.data();
  return static_cast<la_ssize_t>(feed.buffer.size());
}

la_int64_t feed_skip(archive*, void* user, la_int64_t count) {
  auto& feed = *static_cast<TarFeed*>(user);
  const std::uint64_t left = feed.source->size() - feed.at;
  const auto step = std::min(static_cast<std::uint64_t>(std::max<la_int64_t>(count, 0)), left);
  feed.at += step;
  return static_cast<la_int64_t>(step);
}

class TarReader {
 public:
  explicit TarReader(const SourcePtr& source) : feed_{.source = source} {
    archive_read_support_format_tar(archive_);
    archive_read_support_filter_none(archive_);
    archive_read_set_read_callback(archive_, feed_read);
    archive_read_set_skip_callback(archive_, feed_skip);
    archive_read_set_callback_data(archive_, &feed_);
  }
  TarReader(const TarReader&) = delete;
  TarReader& operator=(const TarReader&) = delete;
  ~TarReader() { archive_read_free(archive_); }

  /// nullptr: the end.
  Result<archive_entry*> next() {
    if (!begun_ && archive_read_open1(archive_) != ARCHIVE_OK) return failure();
    begun_ = true;
    archive_entry* entry = nullptr;
    const int code = archive_read_next_header(archive_, &entry);
    if (code == ARCHIVE_EOF) return nullptr;
    // A warning concerns names in other character sets: the bytes are all there.
    if (code != ARCHIVE_OK && code != ARCHIVE_WARN) return failure();
    return entry;
  }
  /// Where the data of the member just given begins: the library has consumed its headers.
  std::uint64_t position() const {
    return static_cast<std::uint64_t>(archive_filter_bytes(archive_, -1));
  }
  std::uint64_t header_position() const {
    return static_cast<std::uint64_t>(archive_read_header_position(archive_));
  }

 private:
  std::unexpected<Error> failure() {
    if (feed_.cause) return fail(*feed_.cause);
    const char* why = archive_error_string(archive_);
    return fail({.code = ErrorCode::Corrupt,
                 .message = fmt::format("the tar is damaged: {}", why != nullptr ? why : "unknown"),
                 .file = feed_.source->name(),
                 .offset = position(),
                 .hint = "Fetch the package again; compare its digest with the source's."});
  }
  TarFeed feed_;
  archive* archive_ = archive_read_new();
  bool begun_ = false;
};

}  // namespace

bool looks_like_tar(View start) {
  // A first member without a name is odd, and still a member: the sum tells.
  if (start.size() < kTarBlock) return false;
  const std::string_view field = until_nul(start.subspan(kTarSumAt, kTarSumSize));
  const std::size_t digit = field.find_first_not_of(' ');
  unsigned promised = 0;
  if (digit == field.npos ||
      std::from_chars(field.data() + digit, field.data() + field.size(), promised, 8).ec !=
          std::errc())
    return false;
  unsigned sum = kTarSumSize * ' ';
  for (std::size_t i = 0; i < kTarBlock; ++i)
    if (i < kTarSumAt || i >= kTarSumAt + kTarSumSize) sum += std::to_integer<unsigned>(start[i]);
  return sum == promised;
}

namespace {

struct Places {
  std::vector<TarPlace> files;
  std::size_t members = 0;
};

/// What a member stores, where its holes are left out; empty: all of it.
std::vector<TarStretch> stretches_of(archive_entry* entry) {
  std::vector<TarStretch> out;
  if (archive_entry_sparse_reset(entry) == 0) return out;
  la_int64_t at = 0, size = 0;
  while (archive_entry_sparse_next(entry, &at, &size) == ARCHIVE_OK)
    out.push_back({static_cast<std::uint64_t>(std::max<la_int64_t>(at, 0)),
                   static_cast<std::uint64_t>(std::max<la_int64_t>(size, 0))});
  return out;
}

Result<Places> find_places(const SourcePtr& source, const Context& context) {
  Places out;
  TarReader reader(source);
  for (;;) {
    WEXLO_CHECK(check_stop(context));
    WEXLO_TRY(archive_entry* const entry, reader.next());
    if (entry == nullptr) return out;
    if (++out.members > kMaxTarMembers)
      return fail({.code = ErrorCode::LimitExceeded,
                   .message = "the tar has too many members",
                   .file = source->name(),
                   .expected = fmt::format("at most {}", kMaxTarMembers)});
    if (archive_entry_filetype(entry) != AE_IFREG || archive_entry_hardlink(entry) != nullptr)
      continue;
    const char* path = archive_entry_pathname(entry);
    const std::string name = path != nullptr ? path : "";
    const auto size =
        static_cast<std::uint64_t>(std::max<la_int64_t>(archive_entry_size(entry), 0));
    out.files.push_back({name.starts_with("./") ? name.substr(2) : name, reader.header_position(),
                         reader.position(), size, stretches_of(entry)});
  }
}

/// The member's bytes: a window, or its stretches at their places with zeros between them.
Result<SourcePtr> open_place(const SourcePtr& source, const TarPlace& place) {
  const std::string name = source->name() + "!" + place.path;
  if (place.stretches.empty()) return open_window(source, place.data_at, place.size, name);
  std::vector<Piece> pieces;
  std::uint64_t at = 0, stored = place.data_at;
  for (const TarStretch& one : place.stretches) {
    if (one.at < at || one.at > place.size || one.size > place.size - one.at)
      return fail({.code = ErrorCode::Corrupt,
                   .message = "the member's list of holes contradicts itself",
                   .file = name,
                   .offset = place.header_at,
                   .hint = "Fetch the package again; compare its digest with the source's."});
    if (one.at > at) pieces.push_back({nullptr, 0, one.at - at});
    if (one.size > 0) pieces.push_back({source, stored, one.size});
    at = one.at + one.size;
    stored += one.size;
  }
  if (at < place.size) pieces.push_back({nullptr, 0, place.size - at});
  return open_joined(std::move(pieces), name);
}

}  // namespace

Result<Tar> open_tar(const SourcePtr& source, const Context& context) {
  WEXLO_TRY(const Places places, find_places(source, context));
  Tar out{.bundle = {.name = source->name()}, .members = places.members};
  for (const TarPlace& one : places.files) {
    WEXLO_TRY(SourcePtr window, open_place(source, one));
    std::uint64_t stored = one.stretches.empty() ? one.size : 0;
    for (const TarStretch& stretch : one.stretches)
      stored += stretch.size;
    out.bundle.items.push_back(
        {.path = one.path,
         .size = one.size,
         .stored_size = stored,
         .open = [window](const Context&) -> Result<SourcePtr> { return window; }});
  }
  WEXLO_CHECK(check_paths(out.bundle));
  return out;
}

Result<std::vector<TarPlace>> tar_places(const SourcePtr& source, const Context& context) {
  WEXLO_TRY(Places places, find_places(source, context));
  return std::move(places.files);
}

Result<std::optional<SumLine>> find_sum_line(const Source& source) {
  const std::uint64_t from = source.size() - std::min<std::uint64_t>(source.size(), kLongestLine);
  WEXLO_TRY(const Bytes raw, read_some(source, from, kLongestLine));
  std::string_view text = as_text(raw);
  while (text.ends_with('\n') || text.ends_with('\r'))
    text.remove_suffix(1);
  // The zero blocks that end the tar, or a line end, come before it.
  const std::size_t before = text.find_last_of(std::string_view("\0\n", 2));
  const std::size_t begin = before == text.npos ? 0 : before + 1;
  const std::string_view line = text.substr(begin);
  constexpr std::size_t kDigits = 32;
  if (line.size() < kDigits + 3 || line[kDigits] != ' ') return std::nullopt;
  SumLine out{.covers = from + begin};
  for (const char c : line.substr(0, kDigits)) {
    if (!std::isxdigit(static_cast<unsigned char>(c))) return std::nullopt;
    out.md5 += static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
  }
  out.name = line.substr(line.find_first_not_of(" *", kDigits));
  return out;
}

Status check_sum_line(const Source& source, const SumLine& line, const Context& context) {
  WEXLO_TRY(const Bytes md5, digest_of_start(source, line.covers, DigestKind::Md5, context));
  const std::string found = hex(md5);
  if (found == line.md5) return {};
  return fail({.code = ErrorCode::DigestMismatch,
               .message = "the package does not have the MD5 that its last line promises",
               .file = source.name(),
               .offset = line.covers,
               .expected = line.md5,
               .found = found,
               .hint = "The package is damaged or was changed: fetch it again."});
}

}  // namespace wexlo
