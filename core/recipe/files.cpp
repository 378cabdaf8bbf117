#include "recipe/files.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "archive/tar.hpp"
#include "archive/zip.hpp"
#include "base/digest.hpp"
#include "firmware/formats.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

constexpr std::uint64_t kMaxFile = 256u << 20;
constexpr std::string_view kInside = "!/";  ///< parts an archive from a path in it

Result<Bundle> bundle_in(const SourcePtr& source) {
  WEXLO_TRY(const Bytes start, read_some(*source, 0, kProbeSize));
  if (looks_like_zip(start)) {
    WEXLO_TRY(const auto zip, ZipArchive::open(source));
    return bundle_of(zip, source->name());
  }
  if (looks_like_tar(start)) {
    WEXLO_TRY(Tar tar, open_tar(source, {}));
    return std::move(tar.bundle);
  }
  return fail({.code = ErrorCode::BadMagic,
               .message = "this is neither a zip nor a tar, and a path in it is asked for",
               .file = source->name()});
}

/// A few names that the archive has, nearest first: a typing mistake shows at a glance.
std::string names_like(const Bundle& bundle, std::string_view wanted) {
  std::vector<std::string_view> names;
  for (const Item& item : bundle.items)
    if (base_name(item.path) == base_name(wanted)) names.push_back(item.path);
  for (const Item& item : bundle.items)
    if (names.size() < 6 && base_name(item.path) != base_name(wanted)) names.push_back(item.path);
  std::string out;
  for (const std::string_view name : names)
    out += fmt::format("{}{}", out.empty() ? "" : ", ", name);
  return out;
}

class DiskFiles final : public FileStore {
 public:
  explicit DiskFiles(fs::path folder) : folder_(std::move(folder)) {}

  Result<Blob> read(const FileRef& file) const override { return read_path(file.from); }

  Result<std::vector<NamedFile>> tree(const FileRef& file) const override {
    const std::string& from = file.from;
    std::string inside;
    const auto cut = from.rfind(kInside);
    const fs::path place = folder_ / from.substr(0, cut);
    std::error_code error;
    Bundle bundle;
    if (fs::is_directory(place, error)) {
      WEXLO_TRY(bundle, bundle_of_folder(place));
    } else {
      SourcePtr source;
      if (cut != std::string::npos && from.find(kInside) != cut) {
        WEXLO_TRY(const Blob archive, read_path(from.substr(0, cut)));
        source = open_memory(archive, from.substr(0, cut));
      } else {
        WEXLO_TRY(source, open_file(place));
      }
      WEXLO_TRY(bundle, bundle_in(source));
    }
    if (cut != std::string::npos) inside = from.substr(cut + kInside.size());
    return below(bundle, inside);
  }

 private:
  [[nodiscard]] Result<Blob> read_path(const std::string& from) const {
    const auto cut = from.find(kInside);
    WEXLO_TRY(SourcePtr source, open_file(folder_ / from.substr(0, cut)));
    for (auto at = cut; at != std::string::npos;) {
      const auto next = from.find(kInside, at + kInside.size());
      WEXLO_TRY(source, member(source, from.substr(at + kInside.size(), next - at - 2)));
      at = next;
    }
    return read_all(*source, kMaxFile);
  }

  static Result<SourcePtr> member(const SourcePtr& archive, const std::string& path) {
    WEXLO_TRY(const Bundle bundle, bundle_in(archive));
    const auto at = std::ranges::find(bundle.items, path, &Item::path);
    if (at != bundle.items.end()) return at->open({});
    return fail({.code = ErrorCode::NotFound,
                 .message = "the archive has no file of that path",
                 .file = archive->name(),
                 .expected = path,
                 .found = names_like(bundle, path)});
  }

  static Result<std::vector<NamedFile>> below(const Bundle& bundle, std::string inside) {
    WEXLO_CHECK(check_paths(bundle));
    while (inside.ends_with('/'))
      inside.pop_back();
    const std::string prefix = inside.empty() ? "" : inside + "/";
    std::vector<NamedFile> out;
    std::uint64_t total = 0;
    for (const Item& item : bundle.items) {
      if (!item.path.starts_with(prefix) || item.path.ends_with('/')) continue;
      WEXLO_TRY(const SourcePtr source, item.open({}));
      total += source->size();
      if (total > kMaxFile)
        return fail({.code = ErrorCode::LimitExceeded,
                     .message = "the files to put in are larger than any ramdisk",
                     .file = bundle.name,
                     .expected = fmt::format("at most {} bytes", kMaxFile)});
      WEXLO_TRY(Blob content, read_all(*source, kMaxFile));
      out.push_back({item.path.substr(prefix.size()), std::move(content)});
    }
    if (out.empty())
      return fail({.code = ErrorCode::NotFound,
                   .message = "there is no file to put in",
                   .file = bundle.name,
                   .expected = inside.empty() ? "at least one file" : "files below " + inside,
                   .found = names_like(bundle, inside)});
    std::ranges::sort(out, {}, &NamedFile::path);
    return out;
  }

  fs::path folder_;
};

}  // namespace

FileStorePtr files_beside(const fs::path& folder) {
  return std::make_shared<DiskFiles>(folder);
}

Status FileRef::bind() {
  if (bound) return {};
  if (is_tree) {
    WEXLO_TRY(files, store->tree(*this));
  } else {
    WEXLO_TRY(Blob blob, store->read(*this));
    files = {{"", std::move(blob)}};
  }
  bound = true;
  return {};
}

std::string FileRef::digest() const {
  Hasher hasher(DigestKind::Sha256);
  for (const NamedFile& file : files) {
    hasher.update(as_view(fmt::format("{} {}\n", file.content.size(), file.path)));
    hasher.update(file.content.view());
  }
  return hex(hasher.finish());
}

}  // namespace wexlo
