#include "archive/tar_write.hpp"

#include <archive.h>
#include <archive_entry.h>
#include <fmt/format.h>

#include <memory>
#include <optional>

#include "base/digest.hpp"
#include "base/output.hpp"

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

Status write_tar_file(const std::filesystem::path& file, const std::vector<TarMember>& members,
                      const std::string& name, const Context& context) {
  WEXLO_TRY(OutputFile output, OutputFile::create(file, Overwrite::Refuse));
  Hasher md5(DigestKind::Md5);
  std::uint64_t at = 0;
  const auto put = [&](View bytes) -> Status {
    WEXLO_CHECK(output.write_at(at, bytes));
    md5.update(bytes);
    at += bytes.size();
    return {};
  };
  WEXLO_CHECK(write_tar(members, context, put));
  if (!name.empty()) WEXLO_CHECK(output.write_at(at, as_view(sum_line(md5.finish(), name))));
  return output.commit(Flush::Leave);
}

}  // namespace wexlo
