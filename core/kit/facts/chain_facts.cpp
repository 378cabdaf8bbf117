#include "kit/facts/chain_facts.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/contains.hpp"
#include "base/digest.hpp"
#include "image/boot.hpp"
#include "image/tail.hpp"
#include "judge/reading.hpp"
#include "ramdisk/layout.hpp"
#include "ramdisk/textfiles.hpp"
#include "text/text_diff.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {
namespace {

constexpr std::size_t kShownDigest = 12;

void read_fstabs(const Ramdisk& ramdisk, ImageFacts& facts) {
  for (const RamdiskSegment& segment : ramdisk.segments)
    for (const newc::Entry& entry : segment.archive.entries) {
      const std::string place = newc::place_of(entry.name());
      if (entry.type() != newc::Regular || !is_fstab_name(place)) continue;
      const auto at = find_entry(ramdisk, place);
      facts.fstabs["/" + place] = as_text(content_of(ramdisk, *at).view());
    }
}

/// Bytes that the image could still grow by: before its verified-boot struct.
void read_room(const LoadedImage& image, ImageFacts& facts) {
  const auto footer = verified::find_footer(image.bytes.view());
  if (!footer || !*footer) return;
  constexpr std::uint64_t kAround = 8192;  // the struct's own block and the footer's
  const std::uint64_t used = image.image->sections_end() + (*footer)->vbmeta_size + kAround;
  facts.left_known = true;
  facts.left = (*footer)->end - std::min(used, (*footer)->end);
}

void compare_texts(const std::string& what, const std::string& before, const std::string& after,
                   const std::string& partition, std::vector<BuildDifference>& out) {
  if (before == after) return;
  const auto shown = [](const std::string& text) {
    return text.empty() ? std::string("(none)") : text;
  };
  out.push_back({partition, what, shown(before), shown(after), {}});
}

void compare_fstabs(const ImageFacts& before, const ImageFacts& after,
                    std::vector<BuildDifference>& out) {
  std::set<std::string> places;
  for (const auto* side : {&before, &after})
    for (const auto& [place, text] : side->fstabs)
      places.insert(place);
  for (const std::string& place : places) {
    const auto text = [&](const ImageFacts& side) {
      const auto at = side.fstabs.find(place);
      return at == side.fstabs.end() ? std::string() : at->second;
    };
    const std::string old = text(before), now = text(after);
    if (old == now) continue;
    const auto lines = [](const std::string& one) {
      return one.empty() ? std::string("(none)")
                         : fmt::format("{} lines", std::ranges::count(one, '\n'));
    };
    out.push_back(
        {after.partition, "fstab " + place, lines(old), lines(now), diff_lines(old, now)});
  }
}

}  // namespace

Result<ImageFacts> image_facts(const LoadedImage& image, const std::string& partition,
                               const Context& context) {
  ImageFacts facts{.partition = partition, .size = image.bytes.size()};
  if (!image.image) return facts;
  WEXLO_TRY(const ImageReading reading, read_deep(image, context, Digests::Left));
  if (reading.kernel) facts.kernel = reading.kernel->release;
  facts.cmdline = boot::cmdline(*image.image);
  for (const ReadRamdisk& one : reading.ramdisks) {
    if (!one.ramdisk) continue;
    read_fstabs(*one.ramdisk, facts);
    if (const auto at = resolve(*one.ramdisk, "init"))
      facts.init = sha256_hex(content_of(*one.ramdisk, *at).view());
  }
  for (const ReadTrees& trees : reading.trees)
    for (std::size_t i = 0; i < trees.blobs.size(); ++i)
      for (const dt::MountNode& node : dt::mount_nodes(trees.blobs[i].fdt.view()))
        facts.fstabs[fmt::format("{} tree {} {}", trees.section, i, node.node)] =
            fmt::format("{} {}\n", node.mount_point, node.flags);
  if (image.image->kind() == "boot") facts.header_version = image.image->layout().version;
  for (const ReadRamdisk& one : reading.ramdisks)
    if (one.ramdisk && facts.layout == RamdiskLayout::None)
      facts.layout =
          layout_of(*one.ramdisk, signs_of(*image.image, partition, *image.decoded, context));
  const auto tail = tail_items(image.image->tail().view());
  facts.enforcing = contains(tail, TailKind::EnforcingTrailer, &TailItem::kind);
  read_room(image, facts);
  return facts;
}

std::vector<BuildDifference> differences(const std::vector<ImageFacts>& before,
                                         const std::vector<ImageFacts>& after) {
  std::vector<BuildDifference> out;
  for (const ImageFacts& now : after) {
    const auto old = std::ranges::find(before, now.partition, &ImageFacts::partition);
    if (old == before.end()) {
      out.push_back({now.partition, "partition", "(none)", "there", {}});
      continue;
    }
    compare_texts("kernel", old->kernel, now.kernel, now.partition, out);
    compare_texts("init", old->init.substr(0, kShownDigest), now.init.substr(0, kShownDigest),
                  now.partition, out);
    compare_texts("cmdline", old->cmdline, now.cmdline, now.partition, out);
    compare_fstabs(*old, now, out);
    const auto room = [](const ImageFacts& side) {
      return side.left_known ? fmt::format("{} bytes", side.left) : std::string("not known");
    };
    compare_texts("room", room(*old), room(now), now.partition, out);
  }
  for (const ImageFacts& old : before)
    if (std::ranges::find(after, old.partition, &ImageFacts::partition) == after.end())
      out.push_back({old.partition, "partition", "there", "(none)", {}});
  return out;
}

}  // namespace wexlo
