#pragma once
/// What the tests of packages share: bundles of files opened as firmware.

#include "firmware/formats.hpp"
#include "firmware/package.hpp"
#include "support/boot.hpp"
#include "support/check.hpp"
#include "support/containers.hpp"

namespace wexlo::test {

inline Result<FirmwarePtr> open(const std::string& bytes, const std::string& name = "x.zip") {
  return open_source(open_memory(blob(bytes), name), {});
}

inline Result<std::string> content(const Firmware& firmware, std::string_view name) {
  WEXLO_TRY(const PartitionFacts* const facts, firmware.choose(name, "x"));
  WEXLO_TRY(const Blob bytes, read_partition(*facts, 1u << 26, {}));
  return text(bytes.view());
}

inline std::string boot_image(std::uint32_t seed = 1) {
  return BootBytes{.version = 2, .page = 2048, .kernel = noise(5000, seed), .ramdisk = gzip("r")}
      .done();
}

/// A bundle in memory.
inline Bundle bundle_of(const std::vector<Member>& members) {
  Bundle out{.name = "set"};
  for (const Member& member : members)
    out.items.push_back({.path = member.name,
                         .size = member.data.size(),
                         .stored_size = member.data.size(),
                         .open = [member](const Context&) -> Result<SourcePtr> {
                           return open_memory(blob(member.data), "set!" + member.name);
                         }});
  return out;
}

inline Result<FirmwarePtr> open_set(const std::vector<Member>& members) {
  return open_package(bundle_of(members), {"folder", ""}, {});
}

}  // namespace wexlo::test
