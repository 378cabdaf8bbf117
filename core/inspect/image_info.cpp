/// What inspect tells of one image.

#include <fmt/format.h>

#include <algorithm>

#include "base/digest.hpp"
#include "image/boot.hpp"
#include "image/kernel.hpp"
#include "image/part_header.hpp"
#include "image/tail.hpp"
#include "inspect/inspect.hpp"
#include "judge/image_origin.hpp"
#include "ramdisk/layout.hpp"
#include "recipe/journal.hpp"
#include "recipe/patch.hpp"
#include "text/text.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {
namespace {

RamdiskInfo ramdisk_info(const ReadRamdisk& one, const Context& context, Depth depth) {
  const boot::RamdiskPart& part = one.part;
  RamdiskInfo info{.title = part.title(),
                   .name = part.name,
                   .type = part.in_table ? boot::ramdisk_type_name(part.type) : "",
                   .offset = part.offset,
                   .size = part.header.size() + part.bytes.size() + part.rest.size(),
                   .compression = "unknown"};
  if (std::ranges::any_of(part.board_id, [](std::uint32_t word) { return word != 0; }))
    for (const std::uint32_t word : part.board_id)
      info.board_id += fmt::format("{}{:x}", info.board_id.empty() ? "" : " ", word);
  if (!part.header.empty()) info.header = part_header::name_of(part.header.view());
  if (!one.ramdisk) {
    info.trouble = one.trouble->message;
    return info;
  }
  info.compression = compression_name(one.ramdisk->compression());
  for (const RamdiskSegment& segment : one.ramdisk->segments) {
    info.decoded_size += segment.decoded.size();
    for (const newc::Entry& entry : segment.archive.entries)
      info.entries += entry.is_trailer() ? 0 : 1;
    if (depth != Depth::Encoders) continue;
    const Setting setting = stock_setting(segment, context, Effort::Thorough);
    info.encoders.push_back(setting.proof == Proof::None
                                ? "none of the usual"
                                : setting_text(segment.compression, setting.framing));
    info.proofs.emplace_back(proof_name(setting.proof));
  }
  if (const auto safe = check_places(*one.ramdisk); !safe) info.trouble = safe.error().message;
  return info;
}

std::string detail_of(const std::vector<RamdiskInfo>& ramdisks) {
  std::size_t entries = 0;
  std::uint64_t decoded = 0;
  for (const RamdiskInfo& one : ramdisks) {
    if (one.entries == 0 && !one.trouble.empty()) return "does not read: " + one.trouble;
    entries += one.entries;
    decoded += one.decoded_size;
  }
  std::string out = fmt::format("{} entries, {} decoded", entries, human_size(decoded));
  if (ramdisks.size() > 1) out = fmt::format("{} fragments, {}", ramdisks.size(), out);
  for (const RamdiskInfo& one : ramdisks)
    if (!one.trouble.empty()) out += "; " + one.trouble;
  return out;
}

std::string kernel_detail(const kernel::Kernel& kernel) {
  std::string out =
      kernel.release.empty() ? kernel.form : fmt::format("{}, {}", kernel.form, kernel.release);
  // Pages of 4 KiB are what everybody takes for granted.
  constexpr std::uint32_t kUsualPage = 4096;
  if (kernel.page_size > kUsualPage)
    out += fmt::format(", pages of {}", human_size(kernel.page_size));
  if (!kernel.trouble.empty()) out += "; does not read: " + kernel.trouble;
  return out;
}

/// The parts, as many of them as hold something.
void tell_parts(const Image& image, const ImageReading& reading, ImageInfo& info) {
  for (std::size_t i = 0; i < image.sections().size(); ++i) {
    const Section& section = image.sections()[i];
    if (section.bytes.empty()) continue;
    PartInfo part{.name = section.name,
                  .offset = section.offset,
                  .size = section.bytes.size(),
                  .compression = "none",
                  .sha256 = reading.sha256[i]};
    const bool vendor = section.name == "vendor_ramdisk";
    if (vendor || section.name == "ramdisk") {
      part.compression = info.ramdisks.empty() ? "none" : info.ramdisks.front().compression;
      for (const RamdiskInfo& one : info.ramdisks)
        if (one.compression != part.compression) part.compression = "mixed";
      part.detail = detail_of(info.ramdisks);
    } else if (section.name == "kernel" && reading.kernel) {
      part.compression = reading.kernel->compression;
      part.detail = kernel_detail(*reading.kernel);
    } else if (const auto kind = detect_compression(section.bytes.view())) {
      part.compression = compression_name(*kind);
    }
    for (const ReadTrees& trees : reading.trees)
      if (trees.section == section.name)
        part.detail += fmt::format("{}{}, {} device tree{}", part.detail.empty() ? "" : "; ",
                                   dt::form_name(trees.form), trees.blobs.size(),
                                   trees.blobs.size() == 1 ? "" : "s");
    info.parts.push_back(std::move(part));
  }
}

void tell_trees(const ImageReading& reading, ImageInfo& info) {
  for (const ReadTrees& trees : reading.trees)
    for (const dt::DtBlob& blob : trees.blobs) {
      info.trees.push_back({trees.section, trees.offset + blob.offset, blob.size, blob.facts.model,
                            blob.compression, blob.facts.compatible, blob.entries,
                            blob.facts.overlay});
    }
}

RamdiskLayout tell_layout(const LoadedImage& loaded, const ImageReading& reading,
                          const Context& context) {
  const Image& image = *loaded.image;
  const auto at = std::ranges::find_if(reading.ramdisks,
                                       [](const auto& one) { return one.ramdisk.has_value(); });
  if (at == reading.ramdisks.end()) return RamdiskLayout::None;
  // An image by itself may be recovery's under any name, but for one that its own footer gives.
  const std::string partition = claimed_partition(loaded);
  return layout_of(*at->ramdisk, signs_of(image, partition, *loaded.decoded, context));
}

void tell_journal(const ImageReading& reading, ImageInfo& info) {
  for (const ReadRamdisk& one : reading.ramdisks) {
    const auto journal =
        one.ramdisk ? read_journal(*one.ramdisk) : Result<std::optional<Journal>>{};
    if (!journal || !*journal) continue;
    for (const JournalEdit& edit : (*journal)->edits)
      info.journal.push_back(fmt::format("{}: {}", edit.recipe, edit.summary));
  }
}

}  // namespace

Result<ImageInfo> image_info(const LoadedImage& loaded, const ImageReading& reading,
                             const std::filesystem::path& path, const Context& context,
                             Depth depth) {
  const Image& image = *loaded.image;
  const auto os = boot::os_version(image);
  const bool paged = image.kind() == "boot" || image.kind() == "vendor_boot";
  ImageInfo info{.partition_kind = std::string(boot::partition_kind(image)),
                 .header_version = image.layout().version,
                 .page_size = paged ? image.page() : image.number("page_size"),
                 .os_version = os.version,
                 .patch_level = os.patch_level,
                 .cmdline = boot::cmdline(image),
                 .name = std::string(until_nul(image.raw("name"))),
                 .kernel = reading.kernel,
                 .id_matches = boot::id_matches(image),
                 .tail_size = image.tail().size()};
  for (const ReadRamdisk& one : reading.ramdisks)
    info.ramdisks.push_back(ramdisk_info(one, context, depth));
  info.bootconfig = boot::bootconfig(image);
  if (paged) info.layout = layout_name(tell_layout(loaded, reading, context));
  info.permissive = permissive_in(image, reading);
  tell_parts(image, reading, info);
  tell_trees(reading, info);
  tell_journal(reading, info);
  info.starts = starts_of({{info.partition_kind, &image, &reading}});
  if (!image.prefix().empty()) {
    const View prefix_bytes = image.prefix().view();
    info.prefix_kind = prefix::kind_of(prefix_bytes);
    info.prefix_size = prefix_bytes.size();
    info.prefix_true =
        prefix::is_true(prefix_bytes, loaded.bytes.view().subspan(prefix_bytes.size()));
  }
  for (const TailItem& item : tail_items(image.tail().view()))
    info.tail.push_back(
        {std::string(tail_name(item.kind)), image.sections_end() + item.offset, item.size});
  if (image.kind() == "vbmeta") {
    WEXLO_TRY(info.vbmeta, vbmeta_info(image));
  } else {
    WEXLO_TRY(info.footer, footer_info(loaded.bytes.view()));
    info.boot_signature = boot_signature_info(image, loaded.bytes.view());
    const View bytes = loaded.bytes.view();
    const auto end = static_cast<std::size_t>(image.sections_end());
    info.older_signature = verified::older_signature(bytes.subspan(end), bytes.first(end));
  }
  info.origin = judge_origin(
      image, reading, own_digests(info.footer, info.vbmeta, info.boot_signature, info.id_matches),
      path);
  return info;
}

}  // namespace wexlo
