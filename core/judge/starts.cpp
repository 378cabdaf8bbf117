#include "judge/starts.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

namespace wexlo {
namespace {

const ChainImage* find(const std::vector<ChainImage>& chain, std::string_view partition) {
  const auto at = std::ranges::find(chain, partition, &ChainImage::partition);
  return at == chain.end() ? nullptr : &*at;
}

std::string compression_of(const ReadRamdisk& one) {
  return one.ramdisk ? std::string(compression_name(one.ramdisk->compression())) : "";
}

bool has_recovery(const ImageReading& reading) {
  return reading.find("sbin/recovery") || reading.find("system/bin/recovery");
}

/// A loader joins the bytes; what a kernel cannot take behind what.
void check_joint(const std::vector<StartPart>& parts, std::string_view start, Starts& out) {
  for (std::size_t i = 1; i < parts.size(); ++i) {
    const std::string &before = parts[i - 1].compression, &now = parts[i].compression;
    if (before == "lz4-legacy" && !now.empty() && now != before)
      out.problems.push_back(
          {StartTrouble::Joint, fmt::format("{} start: {} data of {} follows lz4 data, which has "
                                            "no end mark: a kernel reads it as a "
                                            "broken block",
                                            start, now, parts[i].partition)});
  }
  for (const StartPart& part : parts)
    if (part.compression == "lz4-frame")
      out.problems.push_back(
          {StartTrouble::Unpacking,
           fmt::format(
               "{} start: the ramdisk of {} is an lz4 frame, which a kernel does not unpack itself",
               start, part.partition)});
}

void add_vendor(const ChainImage& vendor, Starts& out) {
  for (const ReadRamdisk& one : vendor.reading->ramdisks) {
    const StartPart part{vendor.partition, one.part.name,
                         one.part.in_table ? boot::ramdisk_type_name(one.part.type) : "vendor",
                         compression_of(one)};
    if (!one.part.is(boot::RamdiskType::Recovery)) out.normal.push_back(part);
    out.recovery.push_back(part);
  }
}

/// Versions 0 to 2: the image has all there is.
void old_start(const ChainImage& one, Starts& out) {
  for (const ReadRamdisk& ramdisk : one.reading->ramdisks)
    out.normal.push_back({one.partition, "", "own", compression_of(ramdisk)});
  if (one.partition.starts_with("recovery"))
    out.recovery = std::exchange(out.normal, {});
  else if (has_recovery(*one.reading))
    out.recovery = out.normal;
}

}  // namespace

Starts starts_of(const std::vector<ChainImage>& chain) {
  Starts out;
  const ChainImage *vendor = find(chain, "vendor_boot"), *init = find(chain, "init_boot"),
                   *boot = find(chain, "boot"), *recovery = find(chain, "recovery");
  // Phones that split the boot image.
  if (boot == nullptr) boot = find(chain, "ramdisk");
  if (recovery == nullptr) recovery = find(chain, "recovery_ramdisk");
  const auto old = [](const ChainImage* one) {
    return one != nullptr && one->image->kind() == "boot" && one->image->layout().version <= 2;
  };
  if (old(boot)) old_start(*boot, out);
  if (old(recovery)) {
    Starts own;
    old_start(*recovery, own);
    out.recovery = own.recovery;
  }
  if (vendor != nullptr) add_vendor(*vendor, out);
  if (const ChainImage* one = find(chain, "vendor_kernel_boot")) add_vendor(*one, out);
  const auto with_ramdisk = [&](const ChainImage* one) {
    return one != nullptr && !old(one) && !one->reading->ramdisks.empty();
  };
  const ChainImage* generic = with_ramdisk(init) ? init : with_ramdisk(boot) ? boot : nullptr;
  if (generic != nullptr) {
    if (vendor == nullptr) {
      out.normal.push_back({"vendor_boot", "", "all fragments but recovery", ""});
      out.recovery.push_back({"vendor_boot", "", "all fragments", ""});
    }
    const StartPart part{generic->partition, "", "generic",
                         compression_of(generic->reading->ramdisks.front())};
    out.normal.push_back(part);
    out.recovery.push_back(part);
  } else if (vendor != nullptr) {
    const StartPart part{"init_boot or boot", "", "generic", ""};
    out.normal.push_back(part);
    out.recovery.push_back(part);
  }
  check_joint(out.normal, "normal", out);
  if (out.recovery.size() != out.normal.size()) check_joint(out.recovery, "recovery", out);
  return out;
}

}  // namespace wexlo
