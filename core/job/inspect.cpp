#include "job/inspect.hpp"

#include <algorithm>

#include "base/digest.hpp"
#include "image/boot.hpp"
#include "job/prepare.hpp"
#include "parts/parts.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

/// The boot chain of a folder, put together.
Starts folder_starts(const fs::path& images, const Context& context) {
  struct Held {
    std::string partition;
    LoadedImage loaded;
    ImageReading reading;
  };
  std::vector<Held> held;
  for (const std::string partition : {"vendor_boot", "init_boot", "boot", "recovery"}) {
    const auto source = open_file(images / (partition + ".img"));
    auto loaded =
        source ? load_image(**source) : Result<LoadedImage>(fail({.code = ErrorCode::Io}));
    if (!loaded || !loaded->image) continue;
    auto reading = read_deep(*loaded->image, context);
    if (reading) held.push_back({partition, std::move(*loaded), std::move(*reading)});
  }
  std::vector<ChainImage> chain;
  for (const Held& one : held)
    chain.push_back({one.partition, &*one.loaded.image, &one.reading});
  return starts_of(chain);
}

/// A folder: one of Wexlo's own, or any that holds images.
Inspection inspect_folder(const fs::path& path, const Context& context) {
  std::error_code ignored;
  Inspection out{.path = path.string(), .kind = "folder"};
  fs::path images = path;
  if (fs::exists(path / parts::kManifest, ignored)) out.kind = "parts";
  if (fs::exists(path / kKitManifest, ignored)) {
    out.kind = "kit";
    images = path / "flash";
  }
  out.layers.push_back({out.kind, ""});
  for (const auto& entry : fs::directory_iterator(images, ignored)) {
    if (!entry.is_regular_file(ignored) || entry.path().extension() != ".img") continue;
    const std::uint64_t size = entry.file_size(ignored);
    out.partitions.push_back(
        {.name = entry.path().stem().string(), .size = size, .stored_size = size});
  }
  std::ranges::sort(out.partitions, {}, &PartitionFacts::name);
  out.starts = folder_starts(images, context);
  return out;
}

}  // namespace

Result<Inspection> inspect(const fs::path& path, const Context& context, Depth depth) {
  std::error_code ignored;
  if (fs::is_directory(path, ignored)) return inspect_folder(path, context);
  WEXLO_TRY(const SourcePtr source, open_file(path));
  WEXLO_TRY(const Identified found, identify(*source));
  const Format* format = found.format;
  Inspection out{.path = path.string(), .kind = std::string(format->kind), .size = source->size()};
  if (format->open_firmware != nullptr) {
    WEXLO_TRY(const auto firmware, format->open_firmware(source));
    out.layers = firmware->layers();
    out.partitions = firmware->partitions();
    out.build = firmware->build();
    out.incremental = firmware->incremental();
    return out;
  }
  if (found.prefix.size != 0) out.layers.push_back({"prefix", std::string(found.prefix.kind)});
  out.layers.push_back({out.kind, ""});
  if (format->parse_image == nullptr) return out;
  WEXLO_TRY(const LoadedImage loaded, load_image(*source));
  WEXLO_TRY(const ImageReading reading, read_deep(*loaded.image, context));
  auto info = image_info(loaded, reading, path, context, depth);
  if (!info) return fail(in_file(std::move(info).error(), path.string()));
  out.image = std::move(*info);
  out.kind = out.image->partition_kind;
  out.layers.back().kind = out.kind;
  return out;
}

}  // namespace wexlo
