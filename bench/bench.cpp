/// Benchmarks: whole runs of the built program, best of several, as ratios taken in one run.
///
/// - A tenfold larger payload must not slow down, nor widen, the extraction of init_boot alone.
/// - Boot images against general tools: images.cpp.
/// - Firmware containers against general tools: containers.cpp.
/// - Kits, packages with images put in, and trays: kits.cpp.
/// - Writing to a phone: phones.cpp.

#include <algorithm>
#include <filesystem>
#include <fstream>

#include "base/output.hpp"
#include "codec/codec.hpp"
#include "demo/gnomon.hpp"
#include "measure.hpp"

namespace fs = std::filesystem;
using namespace wexlo;
using namespace wexlo::bench;

namespace {

Cost extract(const fs::path& firmware, const fs::path& folder, const std::string& what, int runs) {
  return best_of(runs, {WEXLO_PROGRAM, "extract", firmware.string(), what, "-o",
                        (folder / "out").string(), "--force", "--jobs", "2"});
}

void grows_tenfold(const fs::path& folder) {
  const Context context{.jobs = 2};
  std::vector<Cost> one, all;
  for (const std::size_t mib : {std::size_t{48}, std::size_t{480}}) {
    const fs::path firmware = folder / fmt::format("system-{}.zip", mib);
    apart([&] { return demo::write_gnomon(firmware, {.system_mib = mib}, context).has_value(); });
    one.push_back(extract(firmware, folder, "init_boot", 15));
    show(fmt::format("init_boot out of a package with {} MiB of system", mib), one.back());
    all.push_back(extract(firmware, folder, "--all", 3));
    show(fmt::format("all out of a package with {} MiB of system", mib), all.back());
  }
  fmt::print(
      "ratio: init_boot alone, payload's rest tenfold: time {:.2f}, bytes read {:.2f}, peak "
      "memory {:.2f}\n",
      one[1].seconds / one[0].seconds,
      static_cast<double>(one[1].read_bytes) / static_cast<double>(one[0].read_bytes),
      static_cast<double>(one[1].peak_bytes) / static_cast<double>(one[0].peak_bytes));
  fmt::print("ratio: all partitions, system tenfold: peak memory {:.2f}\n",
             static_cast<double>(all[1].peak_bytes) / static_cast<double>(all[0].peak_bytes));
}

}  // namespace

int main(int argc, char** argv) {
  const std::string only = argc > 2 ? argv[2] : "";
  if (argc < 2 || argc > 3) {
    fmt::print(stderr,
               "usage: wexlo_bench FOLDER [images|packages|containers|kits|phones|trees]\n");
    return 2;
  }
  if (only.empty() || only == "images") boot_images(argv[1]);
  if (only.empty() || only == "packages") grows_tenfold(argv[1]);
  if (only.empty() || only == "containers") containers(argv[1]);
  if (only.empty() || only == "kits") kits(argv[1]);
  if (only.empty() || only == "phones") phones(argv[1]);
  if (only.empty() || only == "trees") hash_trees(argv[1]);
  return 0;
}
