#pragma once
/// The firmware of `gnomon` (Korvale Tarn 3), an invented phone: two slots, init_boot and boot of
/// header version 4, vendor_boot of version 4, a vbmeta chain, an over-the-air zip with a payload.

#include <filesystem>
#include <map>

#include "base/pool.hpp"
#include "demo/content.hpp"
#include "demo/payload_writer.hpp"

namespace wexlo::demo {

struct GnomonOptions {
  FirmwareSize size = FirmwareSize::Usual;
  std::size_t system_mib = 0;  ///< of the system partition; 0: what goes with `size`
  bool older = false;          ///< the build of the month before
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

/// A generic system for phones of this kind, sparse: larger than gnomon's own, so that room has to
/// be made for it. It cannot be mounted. Errors: Io, Exists.
[[nodiscard]] Status write_generic_system(const std::filesystem::path& image);

/// Sheets of the invented phones at the bench, notes and a tray of jobs, by their files' names.
[[nodiscard]] std::map<std::string, std::string_view> bench_files();

/// The add-on: a program for each processor that it was built for, and the recipe that puts it in.
struct AddOn {
  std::map<std::string, std::string_view> programs;  ///< by processor: "arm64", "x86_64"
  std::string_view recipe;
};
/// The processor of the machine that Wexlo was built for, which always has its program.
[[nodiscard]] std::string_view host_processor();
[[nodiscard]] AddOn add_on();

}  // namespace wexlo::demo
