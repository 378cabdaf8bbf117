#include "figure/drawings.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/contains.hpp"
#include "compare/compare.hpp"
#include "text/text.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {
namespace {

using figure::Ink;
using figure::Region;

Ink ink_of(std::string_view section) {
  if (section == "kernel") return Ink::Kernel;
  if (section.ends_with("_table")) return Ink::Header;
  if (section.find("ramdisk") != section.npos) return Ink::Ramdisk;
  if (section == "dtb" || section == "recovery_dtbo" || section == "entries") return Ink::Tree;
  if (section.find("signature") != section.npos || section == "authentication")
    return Ink::Signature;
  return Ink::Other;
}

void add_tail(const LoadedImage& image, std::uint64_t begin, std::vector<Region>& out) {
  const std::uint64_t total = image.bytes.size();
  const auto footer = verified::find_footer(image.bytes.view());
  if (footer && *footer) {
    out.push_back({.name = "verified-boot struct",
                   .detail = "covers the bytes before it",
                   .offset = (*footer)->vbmeta_offset,
                   .size = (*footer)->vbmeta_size,
                   .ink = Ink::Signature});
    out.push_back({.name = "footer",
                   .detail = "says where the struct is",
                   .offset = (*footer)->end - verified::kFooterSize,
                   .size = verified::kFooterSize,
                   .ink = Ink::Header});
  }
  // Anything else behind the sections that is not zeros.
  std::uint64_t end = footer && *footer ? (*footer)->vbmeta_offset : total;
  end = std::min<std::uint64_t>(end, total);
  const View bytes = image.bytes.view();
  while (end > begin && bytes[end - 1] == std::byte{0})
    --end;
  if (end > begin)
    out.push_back({.name = "trailer",
                   .detail = "bytes behind the sections",
                   .offset = begin,
                   .size = end - begin,
                   .ink = Ink::Other});
}

std::uint64_t space(const SuperFacts& facts) {
  std::uint64_t taken = 0;
  for (const LogicalPartition& one : facts.partitions)
    taken += one.size;
  if (facts.size != 0) return std::max(facts.size, taken);
  std::uint64_t rooms = 0;
  for (const LogicalGroup& one : facts.groups)
    rooms = std::max(rooms, one.size);
  return std::max(rooms, taken);
}

figure::Side side_of(const SuperFacts& facts, const SuperFacts& before, const std::string& name) {
  static constexpr Ink kInks[] = {Ink::Kernel, Ink::Ramdisk, Ink::Tree, Ink::Signature, Ink::Other};
  figure::Side out{.name = name, .total = space(facts), .regions = {}};
  std::uint64_t at = 0;
  for (std::size_t i = 0; i < facts.partitions.size(); ++i) {
    const LogicalPartition& one = facts.partitions[i];
    const auto was = std::ranges::find(before.partitions, one.name, &LogicalPartition::name);
    const bool resized = was != before.partitions.end() && was->size != one.size;
    const auto number = was == before.partitions.end()
                            ? i
                            : static_cast<std::size_t>(was - before.partitions.begin());
    std::string detail = one.group.empty() ? "" : "group " + one.group;
    if (resized)
      detail += fmt::format("{}was {}", detail.empty() ? "" : ", ", human_size(was->size));
    if (one.size > 0)
      out.regions.push_back({.name = one.name,
                             .detail = detail,
                             .offset = at,
                             .size = one.size,
                             .ink = resized ? Ink::Changed : kInks[number % std::size(kInks)]});
    at += one.size;
  }
  out.regions = figure::with_gaps(std::move(out.regions), out.total, "free", Ink::Free);
  return out;
}

std::pair<std::string, Ink> state_of(const verified::ChainStruct& one, const verified::Walk& walk) {
  using verified::SignatureState;
  if (!one.found) return {"missing", walk.digest.empty() ? Ink::Faint : Ink::Bad};
  if (one.signature == SignatureState::None) return {"unsigned", Ink::Bad};
  if (one.signature == SignatureState::Stale) return {"changed after signing", Ink::Bad};
  if (one.signature != SignatureState::Holds) return {"signature not valid", Ink::Bad};
  if (one.key_expected == false) return {"signed with another key", Ink::Bad};
  return {"signature valid", Ink::Good};
}

std::pair<std::string, Ink> state_of(const verified::Claim& claim) {
  using verified::Standing;
  if (claim.standing == Standing::Missing) return {"not available", Ink::Faint};
  if (claim.standing == Standing::Disabled) return {"switched off", Ink::Faint};
  if (claim.standing != Standing::Ok) return {"digest differs", Ink::Bad};
  return claim.looked ? std::pair(std::string("digest matches"), Ink::Good)
                      : std::pair(std::string("not looked at"), Ink::Faint);
}

class ChainLines {
 public:
  explicit ChainLines(const verified::Walk& walk) : walk_(walk) {}
  std::vector<figure::ChainLine> run() {
    if (!walk_.structs.empty()) put(0, 0);
    return std::move(out_);
  }

 private:
  void put(std::size_t index, unsigned depth) {
    const verified::ChainStruct& one = walk_.structs[index];
    const auto [state, ink] = state_of(one, walk_);
    std::string detail = one.algorithm;
    if (!one.key_sha256.empty())
      detail += fmt::format("{}key {}…", detail.empty() ? "" : ", ", one.key_sha256.substr(0, 12));
    if (one.found) detail += fmt::format(", rollback {}", one.rollback_index);
    out_.push_back({depth, one.partition + (one.in_footer ? " (footer)" : ""), detail, state, ink});
    for (const verified::Claim& claim : one.claims) {
      if (claim.kind == verified::ClaimKind::Chain) {
        for (std::size_t next = index + 1; next < walk_.structs.size(); ++next)
          if (walk_.structs[next].parent == static_cast<int>(index) &&
              walk_.structs[next].partition == claim.partition)
            put(next, depth + 1);
        continue;
      }
      const auto [claim_state, claim_ink] = state_of(claim);
      out_.push_back({depth + 1, claim.partition,
                      fmt::format("{} {}, {}", claim_kind_about(claim.kind), claim.algorithm,
                                  human_size(claim.image_size)),
                      claim_state, claim_ink});
    }
  }
  const verified::Walk& walk_;
  std::vector<figure::ChainLine> out_;
};

}  // namespace

std::vector<Region> drawn_regions(const LoadedImage& image) {
  std::vector<Region> out;
  if (!image.image) {
    out.push_back({.name = image.format == nullptr ? "image" : std::string(image.format->kind),
                   .detail = "carried whole",
                   .offset = 0,
                   .size = image.bytes.size(),
                   .ink = Ink::Other});
    add_tail(image, image.bytes.size(), out);
    return out;
  }
  const Image& one = *image.image;
  const std::uint64_t prefix = one.prefix().size();
  if (prefix > 0)
    out.push_back({.name = "prefix",
                   .detail = "a maker's own",
                   .offset = 0,
                   .size = prefix,
                   .ink = Ink::Other});
  out.push_back({.name = "header",
                 .detail = fmt::format("{} version {}", one.kind(), one.layout().version),
                 .offset = prefix,
                 .size = one.header().size(),
                 .ink = Ink::Header});
  for (const Section& section : one.sections())
    if (!section.bytes.empty())
      out.push_back({.name = section.name,
                     .detail = "",
                     .offset = section.offset,
                     .size = section.bytes.size(),
                     .ink = ink_of(section.name)});
  add_tail(image,
           image.bytes.size() - std::min<std::uint64_t>(image.bytes.size(), one.tail().size()),
           out);
  return out;
}

figure::Scene draw_image(const std::string& title, const LoadedImage& image) {
  const std::uint64_t total = image.bytes.size();
  return figure::byte_map(title, total,
                          figure::with_gaps(drawn_regions(image), total, "padding", Ink::Padding));
}

figure::Scene draw_changes(const std::string& title, const LoadedImage& before,
                           const std::string& before_name, const LoadedImage& after,
                           const std::string& after_name, const std::vector<ChangedRange>& ranges) {
  const auto side = [](const LoadedImage& image, const std::string& name) {
    return figure::Side{
        name, image.bytes.size(),
        figure::with_gaps(drawn_regions(image), image.bytes.size(), "padding", Ink::Padding)};
  };
  std::vector<Region> changes;
  for (const ChangedRange& one : ranges)
    changes.push_back({.name = one.region,
                       .detail = one.cause,
                       .offset = one.offset,
                       .size = one.size,
                       .ink = Ink::Changed});
  return figure::change_map(title, side(before, before_name), side(after, after_name), changes);
}

Result<figure::Scene> draw_difference(const std::string& title, const LoadedImage& before,
                                      const std::string& before_name, const LoadedImage& after,
                                      const std::string& after_name, const Context& context) {
  WEXLO_TRY(const ImageComparison comparison, compare_images(before, after, context));
  std::vector<ChangedRange> ranges;
  for (const DifferentRange& one : comparison.ranges)
    ranges.push_back({one.offset, one.size, one.region, ""});
  return draw_changes(title, before, before_name, after, after_name, ranges);
}

figure::Scene draw_super(const std::string& title, const SuperFacts& super,
                         const std::vector<RoomPlan>& rooms) {
  const bool planned =
      std::ranges::any_of(rooms, [](const RoomPlan& one) { return !one.steps.empty(); });
  std::optional<figure::Side> after;
  if (planned) {
    SuperFacts then = super;
    for (const RoomPlan& room : rooms)
      then = after_room(std::move(then), room);
    after = side_of(then, super, "after the plan");
  }
  return figure::super_map(title, side_of(super, super, planned ? "before" : "super"), after);
}

figure::Scene draw_chain(const std::string& title, const verified::Walk& walk) {
  const auto verdict = [&](bool locked) {
    const verified::Fault* stop = walk.first_stop(locked);
    const bool starts = locked ? walk.locked_starts() : walk.unlocked_starts();
    return fmt::format("{} phone: {}{}", locked ? "A locked" : "An unlocked",
                       starts ? "starts" : "refuses. ",
                       !starts && stop != nullptr ? stop->message : "");
  };
  return figure::chain_tree(title, ChainLines(walk).run(), {verdict(true), verdict(false)});
}

figure::Scene draw_payload(const std::string& title, const Firmware& firmware) {
  std::vector<figure::PayloadBar> bars;
  for (const PartitionFacts& one : firmware.partitions) {
    figure::PayloadBar bar{one.name, one.size, one.stored_size, {}};
    for (const auto& [kind, bytes] : one.written_by)
      bar.kinds.emplace_back(kind, bytes);
    bars.push_back(std::move(bar));
  }
  std::ranges::stable_sort(bars, std::greater{}, &figure::PayloadBar::size);
  return figure::payload_bars(title, bars);
}

}  // namespace wexlo
