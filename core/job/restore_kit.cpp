#include "job/restore_kit.hpp"

#include "base/digest.hpp"
#include "base/source.hpp"
#include "kit/folder/kit.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

constexpr std::uint64_t kPiece = 4u << 20;

/// A file of the kit, read once: its digest holds, and its bytes go to `out` where there is one.
Status copy_verified(const Kit& kit, const KitFile& file, OutputFile* out, const Context& context) {
  const std::string shown = (kit.folder() / file.file).string();
  WEXLO_TRY(const SourcePtr source, kit.file(file.file));
  Hasher hasher(DigestKind::Sha256);
  for (std::uint64_t at = 0; at < source->size(); at += kPiece) {
    WEXLO_CHECK(check_stop(context));
    WEXLO_TRY(const Bytes piece, read_some(*source, at, kPiece));
    hasher.update(piece);
    if (out != nullptr) WEXLO_CHECK(out->write_at(at, piece));
  }
  const std::string found = hex(hasher.finish());
  if (found != file.sha256)
    return fail({.code = ErrorCode::DigestMismatch,
                 .message = "the stock image in the kit is damaged",
                 .file = shown,
                 .expected = "SHA-256 " + file.sha256,
                 .found = found,
                 .hint = "Take the image out of the firmware again: wexlo extract."});
  return {};
}

std::vector<StockCopy> stock_files(const KitManifest& manifest) {
  std::vector<StockCopy> out;
  for (const KitImage& image : manifest.images) {
    if (!image.written || image.stock_files.empty()) continue;
    const KitContent& content = image.stock_files;
    if (!content.file.empty())
      out.push_back({image.partition, {content.file, content.size, content.sha256}, {}});
    for (const KitFile& piece : content.pieces)
      out.push_back({image.partition, piece, {}});
  }
  return out;
}

}  // namespace

Result<RestoredKit> restore_kit(const fs::path& folder, const fs::path& target, Overwrite overwrite,
                                const Context& context) {
  WEXLO_TRY(const Kit kit, Kit::open(folder));
  RestoredKit out{kit.manifest().device, kit.manifest().build, stock_files(kit.manifest())};
  if (out.files.empty())
    return fail({.code = ErrorCode::NoWayBack,
                 .message = "the kit holds no stock images",
                 .file = folder.string(),
                 .hint = "wexlo prepare FIRMWARE --stock makes a kit that only restores."});
  if (target.empty()) {
    for (const StockCopy& one : out.files)
      WEXLO_CHECK(copy_verified(kit, one.file, nullptr, context));
    return out;
  }
  std::error_code ignored;
  const fs::path inside = fs::weakly_canonical(fs::absolute(target), ignored)
                              .lexically_relative(fs::weakly_canonical(folder, ignored));
  if (!inside.empty() && *inside.begin() != "..")
    return fail({.code = ErrorCode::Usage,
                 .message = "the output is in the kit itself",
                 .file = target.string(),
                 .hint = "Give a folder of its own: a kit holds nothing but its own files."});
  WEXLO_TRY(MadeFolders made, MadeFolders::make(target));
  std::vector<OutputFile> files;
  for (StockCopy& one : out.files) {
    one.target = target / fs::path(one.file.file).filename();
    WEXLO_CHECK(check_not_input(one.target, {folder.string()}));
    WEXLO_TRY(OutputFile file, OutputFile::create(one.target, overwrite));
    WEXLO_CHECK(copy_verified(kit, one.file, &file, context));
    files.push_back(std::move(file));
  }
  std::uint64_t total = 0;
  for (const StockCopy& one : out.files)
    total += one.file.size;
  for (OutputFile& file : files)
    WEXLO_CHECK(file.commit(total > kMostWaitedFor ? Flush::Leave : Flush::Wait));
  made.keep();
  return out;
}

}  // namespace wexlo
