#include "judge/joined.hpp"

#include "image/fragments.hpp"

namespace wexlo {
namespace {

/// All fragments but recovery's.
void take(const Subject& one, Joined& out) {
  for (const ReadRamdisk& ramdisk : one.reading.ramdisks)
    if (ramdisk.ramdisk && !ramdisk.part.is(boot::RamdiskType::Recovery))
      out.parts.push_back(&*ramdisk.ramdisk);
  out.last_partition = one.partition;
}

}  // namespace

Joined join_ramdisks(const Subjects& set) {
  Joined out;
  const auto find = [&](std::string_view partition) {
    const Subject* one = set.find(partition);
    return one != nullptr && one->image() != nullptr ? one : nullptr;
  };
  const Subject *boot = find("boot"), *vendor = find("vendor_boot"), *init = find("init_boot"),
                *vendor_kernel = find("vendor_kernel_boot");
  if (boot == nullptr) boot = find("ramdisk");
  if (boot != nullptr && boot->image()->kind() == "boot" && boot->image()->layout().version <= 2) {
    take(*boot, out);
    out.has_generic = true;
    // Without a ramdisk the kernel mounts the system by itself.
    out.whole = !out.parts.empty();
    return out;
  }
  if (vendor != nullptr) take(*vendor, out);
  if (vendor_kernel != nullptr) take(*vendor_kernel, out);
  const Subject* generic = init != nullptr && !init->reading.ramdisks.empty() ? init : boot;
  if (generic != nullptr && !generic->reading.ramdisks.empty()) {
    take(*generic, out);
    out.has_generic = true;
    out.whole = vendor != nullptr;
  }
  return out;
}

std::optional<FoundEntry> find_joined(const Joined& joined, std::string_view place) {
  for (auto at = joined.parts.rbegin(); at != joined.parts.rend(); ++at)
    if (const auto found = find_entry(**at, place))
      return FoundEntry{*at, *found, &entry_at(**at, *found)};
  return std::nullopt;
}

}  // namespace wexlo
