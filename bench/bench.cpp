/// Benchmarks: whole runs of the built program, best of several, as ratios taken in one run.
///
/// - A tenfold larger payload must not slow down, nor widen, the extraction of init_boot alone.
/// - Boot images against general tools: images.cpp.
/// - Everything out of the package, against general tools doing the same work on the same bytes.

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

/// One partition as a payload of xz operations, and the same pieces as two files of xz streams.
bool make_halves(const fs::path& folder) {
  const Context context{.jobs = 2};
  auto images = demo::gnomon_images({.system_mib = 240});
  std::erase_if(images, [](const auto& image) { return image.name != "system"; });
  Bytes& raw = images[0].image;
  // Every byte differs from zero, so that no piece becomes a ZERO operation.
  for (auto& byte : raw)
    byte |= std::byte{1};
  const auto payload = demo::full_payload(images, 0, "", context);
  if (!payload || !write_file(folder / "payload.bin", *payload, Overwrite::Replace)) return false;
  std::string half[2];
  constexpr std::size_t kPiece = 2u << 20;
  for (std::size_t at = 0, i = 0; at < raw.size(); at += kPiece, ++i) {
    const auto packed = encode(
        Compression::Xz, View(raw).subspan(at, std::min(kPiece, raw.size() - at)), {.level = 0});
    if (!packed) return false;
    half[i % 2] += as_text(*packed);
  }
  for (int i = 0; i < 2; ++i)
    std::ofstream(folder / fmt::format("half{}.xz", i), std::ios::binary) << half[i];
  return true;
}

/// The same bytes through xz and sha256sum, two at a time, as a shell would do it.
void against_tools(const fs::path& folder) {
  apart([&] { return make_halves(folder); });
  const Cost ours = extract(folder / "payload.bin", folder, "system", 5);
  const std::string tools = fmt::format(
      "cd {} && (xz -dc half0.xz > raw0 & xz -dc half1.xz > raw1; wait) && "
      "(sha256sum half0.xz raw0 & sha256sum half1.xz raw1; wait)",
      folder.string());
  const Cost theirs = best_of(5, {"bash", "-c", tools});
  show("system (240 MiB, xz) out of a payload, verified", ours);
  show("two xz -dc, then two sha256sum, on the same bytes", theirs);
  fmt::print("ratio: {:.2f}\n", ours.seconds / theirs.seconds);
}

}  // namespace

int main(int argc, char** argv) {
  const std::string only = argc > 2 ? argv[2] : "";
  if (argc < 2 || argc > 3) {
    fmt::print(stderr, "usage: wexlo_bench FOLDER [images|packages]\n");
    return 2;
  }
  if (only != "packages") boot_images(argv[1]);
  if (only == "images") return 0;
  grows_tenfold(argv[1]);
  against_tools(argv[1]);
  return 0;
}
