#include "inspect/inspect.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/digest.hpp"
#include "base/error_kinds.hpp"
#include "firmware/extract.hpp"
#include "image/boot.hpp"
#include "judge/phone_set.hpp"
#include "kit/folder/kit.hpp"
#include "net/http.hpp"
#include "parts/parts.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

/// Heads of that many partitions are read: together below 4 MiB.
constexpr std::size_t kMaxHeads = 72;
constexpr std::size_t kHeaderVersionAt = 40, kVendorVersionAt = 8, kLabelAt = 1144, kLabelSize = 16;

/// What the first bytes tell of an image, beside its kind.
std::string head_detail(const Format& format, View start) {
  const auto number = [&](std::size_t at) {
    return load<std::uint32_t, std::endian::little>(start.data() + at);
  };
  if (format.kind == "boot" && start.size() >= kHeaderVersionAt + 4) {
    const std::uint32_t version = number(kHeaderVersionAt);
    // The oldest keep the size of a section there.
    return fmt::format("header version {}", version > 4 ? 0 : version);
  }
  if (format.kind == "vendor_boot" && start.size() >= kVendorVersionAt + 4)
    return fmt::format("header version {}", number(kVendorVersionAt));
  if (format.kind == "ext4" && start.size() >= kLabelAt + kLabelSize) {
    const auto label = until_nul(start.subspan(kLabelAt, kLabelSize));
    return label.empty() ? "" : fmt::format("label \"{}\"", label);
  }
  return {};
}

void look_at_head(PartitionFacts& one) {
  const auto start = one.content->head(kProbeSize);
  if (!start) {
    one.held = "unreadable";
    return;
  }
  const auto found = identify_bytes(*start);
  if (!found) return;
  one.held = found->format->kind;
  const std::string detail = head_detail(
      *found->format, View(*start).subspan(std::min(found->prefix.size, start->size())));
  if (!detail.empty()) one.detail += (one.detail.empty() ? "" : ", ") + detail;
}

/// The boot chain first, then the others, as far as the budget goes.
void look_at_heads(Firmware& firmware) {
  const auto chain = boot_chain(firmware);
  std::size_t left = kMaxHeads;
  for (const bool in_chain : {true, false})
    for (PartitionFacts& one : firmware.partitions) {
      if ((std::ranges::find(chain, one.name) != chain.end()) != in_chain || one.size == 0)
        continue;
      if (left == 0) return;
      --left;
      look_at_head(one);
    }
}

void note_unreadable(Firmware& firmware, const std::string& partition, const Error& why) {
  firmware.note(FindingCode::UnreadableImage,
                fmt::format("{} does not read: {}", partition, describe(why)));
}

/// The kernels' own words, which costs reading the images whole.
Status look_deep(Firmware& firmware, const Context& context) {
  const auto chain = boot_chain(firmware);
  for (PartitionFacts& one : firmware.partitions) {
    if (one.held != "boot" || one.size > kMaxDeep ||
        std::ranges::find(chain, one.name) == chain.end())
      continue;
    const auto bytes = read_partition(one, kMaxDeep, context);
    const auto loaded =
        bytes ? load_image(*bytes, one.name) : Result<LoadedImage>(fail(bytes.error()));
    if (!loaded && is_of_this_run(loaded.error().code)) return fail(loaded.error());
    if (!loaded) note_unreadable(firmware, one.name, loaded.error());
    if (!loaded || !loaded->image) continue;
    WEXLO_TRY(const ImageReading reading, read_deep(*loaded, context));
    if (!reading.kernel || reading.kernel->banner.empty()) continue;
    const std::string& release = reading.kernel->release;
    one.detail += (one.detail.empty() ? "" : ", ") +
                  (release.empty() ? reading.kernel->banner : "kernel " + release);
  }
  return {};
}

/// The boot chain of a folder, put together. What does not read is noted, and not judged.
Result<Starts> folder_starts(Firmware& firmware, const Context& context) {
  struct Held {
    std::string partition;
    LoadedImage loaded;
    ImageReading reading;
  };
  std::vector<Held> held;
  for (const std::string_view name : ramdisk_partitions(RamdiskOrder::Joined)) {
    const std::string partition(name);
    const auto facts = firmware.choose(partition, "");
    if (!facts) continue;
    const auto read = [&]() -> Result<Held> {
      WEXLO_TRY(const Blob bytes, read_partition(**facts, kMaxDeep, context));
      WEXLO_TRY(LoadedImage loaded, load_image(bytes, partition));
      if (!loaded.image)
        return fail({.code = ErrorCode::BadMagic,
                     .message = "it is not a boot image",
                     .file = partition,
                     .expected = "boot or vendor_boot",
                     .found = std::string(loaded.format->kind)});
      WEXLO_TRY(ImageReading reading, read_deep(loaded, context));
      return Held{partition, std::move(loaded), std::move(reading)};
    };
    auto one = read();
    if (one)
      held.push_back(std::move(*one));
    else if (is_of_this_run(one.error().code))
      return fail(std::move(one).error());
    else
      note_unreadable(firmware, partition, one.error());
  }
  std::vector<ChainImage> chain;
  for (const Held& one : held)
    chain.push_back({one.partition, &*one.loaded.image, &one.reading});
  return starts_of(chain);
}

/// The verified-boot chain, where there is one; a note, where it does not read.
Status add_chain(Inspection& out, Firmware& firmware, verified::Look look, const Context& context) {
  PhoneSet set;
  set.add(firmware);
  std::string other;
  const std::string suffix = set.suffix("", other);
  if (set.find_slotted("vbmeta", suffix) == nullptr) return {};
  auto walk = walk_set(
      set,
      {.find = {}, .suffix = suffix, .root_key = {}, .rollback = {}, .look = look, .whole = false},
      context);
  if (!walk && is_of_this_run(walk.error().code)) return fail(std::move(walk).error());
  if (!walk)
    firmware.note(FindingCode::UnreadableChain,
                  fmt::format("The verified-boot chain does not read: {}", describe(walk.error())));
  if (walk && !walk->structs.empty() && walk->structs.front().found) out.chain = std::move(*walk);
  return {};
}

void take_over(Inspection& out, Firmware& firmware) {
  out.kind = firmware.kind;
  out.layers = firmware.layers;
  out.build = firmware.build;
  out.incremental = firmware.incremental;
  out.groups = firmware.groups;
  out.notes = firmware.notes;
  out.partitions = std::move(firmware.partitions);
}

/// A folder: one of Wexlo's own, or any that holds firmware.
Result<Inspection> inspect_folder(const std::string& where, const Context& context, Depth depth) {
  std::error_code ignored;
  const fs::path path = where;
  Inspection out{.path = where, .kind = "folder"};
  fs::path images = path;
  if (fs::exists(path / parts::kManifest, ignored)) out.kind = "parts";
  if (is_kit(path)) {
    out.kind = "kit";
    images = path / "flash";
  }
  if (out.kind == "parts") {
    out.layers.push_back({out.kind, ""});
    return out;
  }
  auto firmware = open_firmware(images.string(), {.context = context});
  if (!firmware) {
    // A folder without firmware is none, and that is no mistake.
    if (firmware.error().code != ErrorCode::NoPartitions) return fail(std::move(firmware).error());
    out.layers.push_back({out.kind, ""});
    return out;
  }
  look_at_heads(**firmware);
  if (depth == Depth::Encoders) WEXLO_CHECK(look_deep(**firmware, context));
  const bool loose = (*firmware)->layers.size() == 1;
  if (loose) {
    WEXLO_TRY(out.starts, folder_starts(**firmware, context));
  }
  WEXLO_CHECK(add_chain(out, **firmware, loose ? verified::Look::Hashes : verified::Look::Structs,
                        context));
  const std::string kind = out.kind;
  take_over(out, **firmware);
  if (kind == "kit") out.kind = out.layers.front().kind = kind;
  return out;
}

/// One image: told in full.
Status add_image(Inspection& out, const LoadedImage& loaded, const Context& context, Depth depth) {
  if (!loaded.image) return {};
  WEXLO_TRY(const ImageReading reading, read_deep(loaded, context));
  auto info = image_info(loaded, reading, out.path, context, depth);
  if (!info) return fail(in_file(std::move(info).error(), out.path));
  out.image = std::move(*info);
  out.layers.back().kind = out.image->partition_kind;
  return {};
}

}  // namespace

Result<Inspection> inspect(const std::string& where, const Context& context, Depth depth,
                           const Opening& options) {
  std::error_code ignored;
  if (fs::is_directory(where, ignored)) return inspect_folder(where, context, depth);
  WEXLO_TRY(const SourcePtr source, open_input(where, context));
  Opening opening = options;
  opening.context = context;
  WEXLO_TRY(const FirmwarePtr firmware, open_source(source, opening));
  Inspection out{.path = where, .size = source->size()};
  if (firmware->single) {
    const ContentPtr content = firmware->partitions.front().content;
    const bool plain = firmware->layers.size() == 1;
    take_over(out, *firmware);
    if (plain) out.partitions.clear();  // the file is the image
    if (out.layers.back().kind == "unknown") return out;
    WEXLO_TRY(const SourcePtr image, content->source(context));
    WEXLO_TRY(const Identified found, identify(*image));
    if (found.prefix.size != 0)
      out.layers.insert(out.layers.end() - 1, {"prefix", std::string(found.prefix.kind)});
    if (found.format->parse_image == nullptr) {
      auto footer = footer_info(*image);
      if (footer)
        out.footer = std::move(*footer);
      else if (footer.error().code == ErrorCode::Io)
        return fail(std::move(footer).error());
      else
        out.notes.push_back(
            {Level::Warning, FindingCode::DamagedFooter,
             fmt::format("The verified-boot footer does not read: {}", describe(footer.error()))});
      return out;
    }
    WEXLO_TRY(const LoadedImage loaded, load_image(*image));
    WEXLO_CHECK(add_image(out, loaded, context, depth));
    if (plain && out.image) out.kind = out.image->partition_kind;
    return out;
  }
  look_at_heads(*firmware);
  if (depth == Depth::Encoders) WEXLO_CHECK(look_deep(*firmware, context));
  // Of a package on a server only what was asked for is fetched.
  if (!is_url(where) || depth == Depth::Encoders)
    WEXLO_CHECK(add_chain(out, *firmware, verified::Look::Structs, context));
  take_over(out, *firmware);
  return out;
}

}  // namespace wexlo
