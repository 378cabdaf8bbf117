#include "archive/tar_write.hpp"

#include <archive.h>
#include <archive_entry.h>
#include <fmt/format.h>

#include <algorithm>
#include <memory>
#include <optional>

#include "archive/tar.hpp"
#include "base/digest.hpp"
#include "base/source_read.hpp"

namespace wexlo {
namespace {

constexpr std::size_t kChunk = 1u << 20;

/// Where the library's bytes go, and what went wrong there.
struct Drain {
  const std::function<Status(View)>& out;
  std::optional<Error> cause{};
};

la_ssize_t drain(archive* writer, void* user, const void* bytes, std::size_t size) {
  auto& to = *static_cast<Drain*>(user);
  auto done = to.out(View(static_cast<const std::byte*>(bytes), size));
  if (done) return static_cast<la_ssize_t>(size);
  to.cause = std::move(done).error();
  archive_set_error(writer, EIO, "cannot write");
  return -1;
}

class TarWriter {
 public:
  explicit TarWriter(const std::function<Status(View)>& out) : drain_{.out = out} {
    archive_write_set_format_gnutar(archive_.get());
    archive_write_set_bytes_per_block(archive_.get(), 10240);
    archive_write_set_bytes_in_last_block(archive_.get(), 10240);
  }
  Status open() {
    return check(archive_write_open(archive_.get(), &drain_, nullptr, drain, nullptr));
  }
  Status member(const TarMember& one, const Context& context) {
    const std::unique_ptr<archive_entry, decltype(&archive_entry_free)> entry(archive_entry_new(),
                                                                              &archive_entry_free);
    archive_entry_set_pathname(entry.get(), one.name.c_str());
    archive_entry_set_filetype(entry.get(), AE_IFREG);
    archive_entry_set_perm(entry.get(), 0644);
    archive_entry_set_size(entry.get(), static_cast<la_int64_t>(one.content->size()));
    archive_entry_set_mtime(entry.get(), 0, 0);
    WEXLO_CHECK(check(archive_write_header(archive_.get(), entry.get())));
    Bytes chunk;
    for (std::uint64_t at = 0; at < one.content->size(); at += chunk.size()) {
      WEXLO_CHECK(check_stop(context));
      WEXLO_TRY(chunk, read_some(*one.content, at, kChunk));
      if (chunk.empty()) break;
      const auto put = archive_write_data(archive_.get(), chunk.data(), chunk.size());
      if (put != static_cast<la_ssize_t>(chunk.size())) return check(ARCHIVE_FATAL);
    }
    return {};
  }
  Status close() { return check(archive_write_close(archive_.get())); }

 private:
  Status check(int code) {
    if (code == ARCHIVE_OK || code == ARCHIVE_WARN) return {};
    if (drain_.cause) return fail(*drain_.cause);
    const char* why = archive_error_string(archive_.get());
    return fail({.code = ErrorCode::Io,
                 .message = fmt::format("cannot write the tar: {}", why != nullptr ? why : "?")});
  }
  Drain drain_;
  std::unique_ptr<archive, decltype(&archive_write_free)> archive_{archive_write_new(),
                                                                   &archive_write_free};
};

}  // namespace

Status write_tar(const std::vector<TarMember>& members, const Context& context,
                 const std::function<Status(View)>& out) {
  TarWriter writer(out);
  WEXLO_CHECK(writer.open());
  for (const TarMember& one : members)
    WEXLO_CHECK(writer.member(one, context));
  return writer.close();
}

std::string sum_line(View md5, const std::string& name) {
  return fmt::format("{}  {}\n", hex(md5), name);
}

Status write_summed_tar(const std::vector<TarMember>& members, const std::string& name,
                        const Context& context, const std::function<Status(View)>& out) {
  Hasher md5(DigestKind::Md5);
  WEXLO_CHECK(write_tar(members, context, [&](View bytes) -> Status {
    md5.update(bytes);
    return out(bytes);
  }));
  if (name.empty()) return {};
  return out(as_view(sum_line(md5.finish(), name)));
}

namespace {

constexpr std::size_t kRecord = 10240;
constexpr std::size_t kSizeAt = 124, kSizeLength = 12;

/// Octal digits, or for more than they hold the number itself with its first bit set.
void put_size(Bytes& header, std::uint64_t size) {
  constexpr std::uint64_t kMostOctal = (std::uint64_t{1} << 33) - 1;
  const auto at = header.begin() + kSizeAt;
  if (size <= kMostOctal) {
    const std::string digits = fmt::format("{:011o}", size) + '\0';
    std::ranges::transform(digits, at, [](char c) { return static_cast<std::byte>(c); });
    return;
  }
  std::fill_n(at, kSizeLength, std::byte{0});
  header[kSizeAt] = std::byte{0x80};
  for (std::size_t i = 0; i < 8; ++i)
    header[kSizeAt + kSizeLength - 1 - i] = static_cast<std::byte>(size >> (8 * i) & 0xff);
}

void put_sum(Bytes& header) {
  std::fill_n(header.begin() + kTarSumAt, kTarSumSize, std::byte{' '});
  unsigned sum = 0;
  for (const std::byte one : header)
    sum += std::to_integer<unsigned>(one);
  const std::string digits = fmt::format("{:06o}", sum) + '\0' + ' ';
  std::ranges::transform(digits, header.begin() + kTarSumAt,
                         [](char c) { return static_cast<std::byte>(c); });
}

Result<Bytes> new_header(const Source& tar, const TarPlace& place, std::uint64_t size) {
  if (!place.stretches.empty())
    return fail({.code = ErrorCode::Unsupported,
                 .message = "the member is stored with its holes left out",
                 .file = tar.name() + "!" + place.path,
                 .offset = place.header_at,
                 .hint = "Unpack the tar and give the folder."});
  const std::uint64_t at = place.data_at - kTarBlock;
  if (place.header_at < at) {
    WEXLO_TRY(const Bytes before, read_some(tar, place.header_at, at - place.header_at));
    if (as_text(before).find(" size=") != std::string_view::npos)
      return fail({.code = ErrorCode::Unsupported,
                   .message = "the member's size stands in an extended header",
                   .file = tar.name() + "!" + place.path,
                   .offset = place.header_at,
                   .hint = "Unpack the tar and give the folder."});
  }
  WEXLO_TRY(Bytes header, read_some(tar, at, kTarBlock));
  if (!looks_like_tar(header))
    return fail({.code = ErrorCode::Corrupt,
                 .message = "no header before the member",
                 .file = tar.name() + "!" + place.path,
                 .offset = at});
  put_size(header, size);
  put_sum(header);
  return header;
}

}  // namespace

Result<SourcePtr> rewrite_tar(const SourcePtr& tar,
                              const std::map<std::string, SourcePtr>& replacements,
                              const std::string& sum_name, const Context& context) {
  WEXLO_TRY(const auto places, tar_places(tar, context));
  WEXLO_TRY(const auto line, find_sum_line(*tar));
  const std::uint64_t end = line ? line->covers : tar->size();
  std::vector<Piece> pieces;
  std::uint64_t done = 0, total = 0;
  std::size_t used = 0;
  const auto add = [&](SourcePtr source, std::uint64_t from, std::uint64_t size) {
    if (size > 0) pieces.push_back({std::move(source), from, size});
    total += size;
  };
  for (const TarPlace& place : places) {
    const auto one = replacements.find(place.path);
    if (one == replacements.end()) continue;
    ++used;
    const SourcePtr& content = one->second;
    WEXLO_TRY(Bytes header, new_header(*tar, place, content->size()));
    add(tar, done, place.data_at - kTarBlock - done);
    add(open_memory(Blob(std::move(header)), tar->name()), 0, kTarBlock);
    add(content, 0, content->size());
    add(nullptr, 0, align_up(content->size(), kTarBlock) - content->size());
    done = std::min(end, place.data_at + align_up(place.size, kTarBlock));
  }
  if (used < replacements.size())
    return fail({.code = ErrorCode::NotFound, .message = "no such member", .file = tar->name()});
  add(tar, done, end - done);
  if (end % kRecord == 0) add(nullptr, 0, align_up(total, kRecord) - total);
  WEXLO_TRY(SourcePtr out, open_joined(pieces, tar->name()));
  if (!line) return out;
  WEXLO_TRY(const Bytes md5, digest_of_start(*out, out->size(), DigestKind::Md5, context));
  const std::string text = sum_line(md5, sum_name.empty() ? line->name : sum_name);
  add(open_memory(Blob(to_bytes(text)), tar->name()), 0, text.size());
  return open_joined(std::move(pieces), tar->name());
}

}  // namespace wexlo
