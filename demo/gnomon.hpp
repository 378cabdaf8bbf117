#pragma once
/// The firmware of `gnomon` (Korvale Tarn 3), an invented phone: two slots, init_boot and boot of
/// header version 4, vendor_boot of version 4, a vbmeta chain, an over-the-air zip with a payload.

#include <filesystem>

#include "base/pool.hpp"
#include "demo/payload_writer.hpp"

namespace wexlo::demo {

struct GnomonOptions {
  std::size_t system_mib = 48;  ///< size of the system partition
  bool older = false;           ///< the build of the month before
};

/// The partition images, as large as their partitions.
[[nodiscard]] std::vector<PayloadPartition> gnomon_images(const GnomonOptions& options = {});

/// Writes the over-the-air zip. Two runs give the same bytes. Errors: Io, Exists, Interrupted.
[[nodiscard]] Status write_gnomon(const std::filesystem::path& zip, const GnomonOptions& options,
                                  const Context& context);

/// Writes an incremental over-the-air zip from the older build to the usual one: copies and binary
/// patches, the hash tree of system left to the phone.
[[nodiscard]] Status write_gnomon_incremental(const std::filesystem::path& zip,
                                              const Context& context);

/// The demo's add-on: a small static program, and the recipe that puts it in.
struct AddOn {
  std::string_view program, recipe;
  bool for_the_phone = false;  ///< false: built for this machine, no arm64 compiler was there
};
[[nodiscard]] AddOn add_on();

}  // namespace wexlo::demo
