#pragma once
/// Images that say of which build they are.

#include "support/bytes.hpp"
#include "support/patching.hpp"
#include "support/vbmeta.hpp"

namespace wexlo::test {

inline std::string build_properties(const std::string& partition, const std::string& build,
                                    const std::string& level) {
  return property_descriptor("com.android.build." + partition + ".fingerprint", build) +
         property_descriptor("com.android.build." + partition + ".security_patch", level);
}

/// With a footer whose struct names the build.
inline std::string image_of_build(const std::string& image, const std::string& partition,
                                  const std::string& build, const std::string& level,
                                  std::size_t size) {
  std::string out = padded(image, 4096);
  const std::string structure =
      vbmeta(hash_descriptor(partition, image, "salt") + build_properties(partition, build, level));
  const std::size_t at = out.size();
  out += structure;
  out.resize(size - 64);
  return out + "AVBf" + be32(1) + be32(0) + be64(image.size()) + be64(at) + be64(structure.size()) +
         std::string(28, '\0');
}

inline std::string init_ramdisk() {
  return CpioBytes{}.folder("system").entry("init", elf("arm64", "stock"), 0100750, 0, 1).done();
}

}  // namespace wexlo::test
