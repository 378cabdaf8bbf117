#include "kit/facts/target.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "image/fragments.hpp"
#include "ramdisk/ramdisk.hpp"

namespace wexlo {
namespace {

const Candidate* find(const std::vector<Candidate>& candidates, std::string_view partition) {
  const auto at = std::ranges::find(candidates, partition, &Candidate::partition);
  return at == candidates.end() ? nullptr : &*at;
}

bool holds_ramdisk(const Candidate* candidate, std::string_view kind) {
  return candidate != nullptr && candidate->image->image &&
         candidate->image->image->kind() == kind &&
         !boot::ramdisk_parts(*candidate->image->image).empty();
}
bool has_ramdisk(const Candidate* candidate) {
  return holds_ramdisk(candidate, "boot");
}

struct First {
  std::string program;
  RamdiskLayout layout = RamdiskLayout::None;
};

Error no_init(const Candidate& candidate) {
  return {.code = ErrorCode::NoTarget,
          .message = "the first ramdisk has no /init",
          .file = candidate.partition,
          .hint =
              "Nothing in this firmware says what starts the system: check that the package is "
              "whole."};
}

/// The first program in the ramdisk: a file, or a link that leads to one on the system.
Result<First> first_program(const Candidate& candidate, const Context& context) {
  const LoadedImage& image = *candidate.image;
  WEXLO_TRY(const ReadRamdisks ramdisks, image.decoded->ramdisks(context));
  for (const ReadRamdisk& one : *ramdisks) {
    if (one.part.bytes.empty() || !one.part.every_start_loads()) continue;
    if (!one.ramdisk) return fail(in_file(*one.trouble, candidate.partition));
    const Ramdisk& ramdisk = *one.ramdisk;
    const auto at = find_entry(ramdisk, "init");
    if (!at) continue;
    const newc::Entry& entry = entry_at(ramdisk, *at);
    return First{
        entry.type() == newc::Symlink
            ? fmt::format("/init, a link to {}", as_text(entry.data().view()))
            : fmt::format("/init ({} bytes)", content_of(ramdisk, *at).size()),
        layout_of(ramdisk, signs_of(*image.image, candidate.partition, *image.decoded, context))};
  }
  return fail(no_init(candidate));
}

/// Where the generic ramdisk is not there, or has no /init, the vendor's may start the system.
Result<std::optional<Target>> in_vendor_boot(const Candidate* vendor_boot,
                                             const std::string& otherwise, const Context& context) {
  if (!holds_ramdisk(vendor_boot, "vendor_boot")) return std::nullopt;
  auto first = first_program(*vendor_boot, context);
  // One without /init is no target; one that does not read might be it.
  if (!first && first.error().code == ErrorCode::NoTarget) return std::nullopt;
  if (!first) return fail(std::move(first).error());
  return Target{"vendor_boot",
                fmt::format("{}, so vendor_boot's ramdisk with {} is the first one to run",
                            otherwise, first->program),
                first->layout};
}

/// An image that is not what its partition holds says nothing of the start. To go on with the next
/// one would put the patch where the phone never looks.
Status check_kinds(const std::vector<Candidate>& candidates) {
  for (const Candidate& one : candidates) {
    const std::string_view wanted = partition_row(one.partition)->image;
    if (one.image->image && one.image->image->kind() == wanted) continue;
    return fail(
        {.code = ErrorCode::Corrupt,
         .message = fmt::format("{} in this firmware is not a boot image: it is damaged, or "
                                "another file under its name",
                                one.partition),
         .file = one.partition,
         .expected = std::string(wanted),
         .found =
             one.image->format == nullptr ? "nothing known" : std::string(one.image->format->kind),
         .hint = "Fetch the package again; compare its digest with the source's."});
  }
  return {};
}

}  // namespace

Result<Target> choose_target(const std::vector<Candidate>& candidates, const Context& context,
                             bool creates) {
  WEXLO_CHECK(check_kinds(candidates));
  const Candidate* init_boot = find(candidates, "init_boot");
  const Candidate* boot = find(candidates, "boot");
  const Candidate* vendor_boot = find(candidates, "vendor_boot");
  const Candidate* recovery = find(candidates, "recovery");
  const Candidate* ramdisk = find(candidates, "ramdisk");
  if (has_ramdisk(init_boot)) {
    auto found = first_program(*init_boot, context);
    if (!found && found.error().code == ErrorCode::NoTarget) {
      WEXLO_TRY(auto vendor,
                in_vendor_boot(vendor_boot, "init_boot's ramdisk has no /init", context));
      if (vendor) return *vendor;
    }
    WEXLO_TRY(const First first, std::move(found));
    // Whatever boot holds, a loader that finds init_boot takes the generic ramdisk from there.
    return Target{"init_boot",
                  fmt::format("the firmware has an init_boot, so its ramdisk with {} is the first "
                              "one to run",
                              first.program),
                  first.layout};
  }
  if (has_ramdisk(boot)) {
    auto found = first_program(*boot, context);
    if (!found && found.error().code == ErrorCode::NoTarget) {
      WEXLO_TRY(auto vendor, in_vendor_boot(vendor_boot, "boot's ramdisk has no /init", context));
      if (vendor) return *vendor;
    }
    WEXLO_TRY(const First first, std::move(found));
    return Target{
        "boot",
        fmt::format("boot has the first ramdisk with {}; {}; {}", first.program,
                    init_boot == nullptr ? "there is no init_boot" : "init_boot has no ramdisk",
                    layout_about(first.layout)),
        first.layout};
  }
  if (has_ramdisk(ramdisk)) {
    WEXLO_TRY(const First first, first_program(*ramdisk, context));
    return Target{"ramdisk",
                  fmt::format("this phone splits its boot image: the ramdisk with {} is in a "
                              "partition of its own; {}",
                              first.program, layout_about(first.layout)),
                  first.layout};
  }
  WEXLO_TRY(auto vendor,
            in_vendor_boot(vendor_boot, "neither init_boot nor boot has a ramdisk", context));
  if (vendor) return *vendor;
  if (creates && boot != nullptr && boot->image->image->layout().version <= 2)
    return Target{
        "boot", "boot has no ramdisk, and the recipe makes one: it runs where the loader loads it",
        RamdiskLayout::None};
  if (boot != nullptr && has_ramdisk(recovery)) {
    WEXLO_TRY(const First first, first_program(*recovery, context));
    return Target{
        "recovery",
        fmt::format("boot has no ramdisk, the system starts without one: only recovery's, "
                    "with {}, can be given anything, and it runs when the phone is "
                    "started into recovery",
                    first.program),
        first.layout};
  }
  return fail({.code = ErrorCode::NoTarget,
               .message = "no image has a ramdisk that starts the system",
               .found = boot == nullptr ? "neither init_boot nor boot in the firmware"
                                        : "boot without a ramdisk, no init_boot with one",
               .hint = "The package may be partial: take the full package of the build."});
}

}  // namespace wexlo
