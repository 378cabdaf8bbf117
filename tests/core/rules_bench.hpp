#pragma once
/// What the tests of the rules share: images judged alone or against their stock, and what was
/// found.

#include <fmt/format.h>

#include "check/check.hpp"
#include "support/boot.hpp"
#include "support/check.hpp"
#include "support/containers.hpp"
#include "support/places.hpp"
#include "support/small_phone.hpp"
#include "support/vbmeta.hpp"

namespace wexlo::test {

inline std::string told(const Checked& checked) {
  std::string out;
  for (const Finding& one : checked.findings)
    out +=
        fmt::format("{} {} {}: {}\n", level_name(one.level), one.id.text(), one.where, one.message);
  return out;
}

/// Whether a rule found something, at that level.
inline bool finds(const Checked& checked, const std::string& code, std::string_view level = {}) {
  for (const Finding& one : checked.findings)
    if (one.id.text() == code && (level.empty() || level_name(one.level) == level)) return true;
  return false;
}

#define CHECK_FINDS(checked, code, level) \
  do {                                    \
    const Checked seen = (checked);       \
    CAPTURE(told(seen));                  \
    CHECK(finds(seen, code, level));      \
  } while (false)

inline Checked judge(const std::string& image, const std::string& stock = {},
                     const std::string& name = "boot", CheckOptions options = {}) {
  TempDir folder, other;
  const auto path = folder.path() / (name + ".img");
  write(path, image);
  if (!stock.empty()) {
    write(other.path() / (name + ".img"), stock);
    write(other.path() / "dtbo.img", TableBytes{.blobs = {device_tree("x", "y")}}.done());
    options.against = other.path().string();
  }
  return value_of(check_paths({path.string()}, options, {}));
}

inline BootBytes older(unsigned version) {
  return {.version = version,
          .page = 2048,
          .kernel = arm64_kernel("4.19.0"),
          .ramdisk = gzip(first_ramdisk()),
          .dtb = version == 2 ? device_tree("Tarn 2", "korvale,vernier") : ""};
}

/// With a footer at a partition's size.
inline std::string footed(const std::string& image, const std::string& partition = "boot",
                          std::size_t size = 1 << 20) {
  return with_footer(image, partition, size);
}

}  // namespace wexlo::test
