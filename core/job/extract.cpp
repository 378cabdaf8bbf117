#include "job/extract.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <array>

namespace wexlo {
namespace fs = std::filesystem;
namespace {

constexpr std::array kBootChain{"boot",         "init_boot", "vendor_boot", "vendor_kernel_boot",
                                "recovery",     "dtbo",      "vbmeta",      "vbmeta_system",
                                "vbmeta_vendor"};

Result<std::vector<const PartitionFacts*>> choose(const Firmware& firmware,
                                                  const std::string& firmware_name,
                                                  const ExtractOptions& options) {
  std::vector<std::string> names = options.partitions;
  if (options.all)
    for (const PartitionFacts& partition : firmware.partitions())
      names.push_back(partition.name);
  else if (names.empty())
    names = boot_chain(firmware);
  std::vector<const PartitionFacts*> chosen;
  for (const std::string& name : names) {
    const PartitionFacts* partition = firmware.find(name);
    if (partition == nullptr) {
      std::vector<std::string> there;
      for (const PartitionFacts& one : firmware.partitions())
        there.push_back(one.name);
      return fail(
          {.code = ErrorCode::NotFound,
           .message = fmt::format("no partition is named \"{}\"", name),
           .file = firmware_name,
           .found = there.empty() ? "none at all" : fmt::format("{}", fmt::join(there, ", ")),
           .hint = "Names carry no slot suffix."});
    }
    if (std::ranges::find(chosen, partition) == chosen.end()) chosen.push_back(partition);
  }
  if (chosen.empty())
    return fail({.code = ErrorCode::NotFound,
                 .message = "the firmware has no partition of the boot chain",
                 .file = firmware_name,
                 .hint = "Name partitions, or give --all."});
  return chosen;
}

/// Removes a folder that was made for the outputs when none came.
class FolderGuard {
 public:
  explicit FolderGuard(const fs::path& folder) : folder_(folder) {
    std::error_code ignored;
    made_ = fs::create_directory(folder, ignored);
  }
  FolderGuard(const FolderGuard&) = delete;
  FolderGuard& operator=(const FolderGuard&) = delete;
  ~FolderGuard() {
    std::error_code ignored;
    if (made_) fs::remove(folder_, ignored);  // only an empty one goes
  }
  void keep() { made_ = false; }

 private:
  fs::path folder_;
  bool made_ = false;
};

}  // namespace

std::vector<std::string> boot_chain(const Firmware& firmware) {
  std::vector<std::string> names;
  for (const char* name : kBootChain)
    if (firmware.find(name) != nullptr) names.emplace_back(name);
  return names;
}

Result<std::vector<ExtractedPartition>> extract(const Firmware& firmware,
                                                const std::string& firmware_name,
                                                const ExtractOptions& options,
                                                const fs::path& folder, const Context& context) {
  WEXLO_TRY(const auto chosen, choose(firmware, firmware_name, options));
  const auto target = [&](const PartitionFacts& one) { return folder / (one.name + ".img"); };
  for (const PartitionFacts* one : chosen)
    WEXLO_CHECK(check_absent(target(*one), options.overwrite));

  std::uint64_t total = 0, before = 0;
  for (const PartitionFacts* one : chosen)
    total += one->stored_size;
  Context inner = context;
  if (context.progress)
    inner.progress = [&](std::uint64_t done, std::uint64_t) {
      context.progress(before + done, total);
    };
  FolderGuard guard(folder);
  std::vector<OutputFile> files;
  std::vector<ExtractedPartition> out;
  for (const PartitionFacts* one : chosen) {
    WEXLO_TRY(ReadPartition read,
              read_partition(firmware, *one, target(*one), options.overwrite, inner));
    before += one->stored_size;
    files.push_back(std::move(read.file));
    out.push_back({.name = one->name,
                   .file = target(*one),
                   .size = one->size,
                   .sha256 = std::move(read.sha256),
                   .verified = !one->sha256.empty()});
  }
  for (OutputFile& file : files)
    WEXLO_CHECK(file.commit());
  guard.keep();
  return out;
}

}  // namespace wexlo
