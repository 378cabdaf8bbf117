/// Hash trees of a file system image of more than a GiB, against veritysetup on the same bytes.

#include <algorithm>
#include <chrono>
#include <filesystem>
#include <fstream>
#include <random>

#include "measure.hpp"
#include "verified/hash_tree.hpp"

namespace wexlo::bench {
namespace fs = std::filesystem;
namespace {

constexpr std::size_t kSize = 1100;  ///< MiB of data

bool make_data(const fs::path& path) {
  std::ofstream out(path, std::ios::binary);
  std::mt19937_64 random(7);
  std::string piece(kMiB, '\0');
  for (std::size_t i = 0; i < kSize && out; ++i) {
    for (std::size_t at = 0; at < kMiB; at += 8) {
      const std::uint64_t word = random();
      piece.replace(at, 8, reinterpret_cast<const char*>(&word), 8);
    }
    out.write(piece.data(), static_cast<std::streamsize>(piece.size()));
  }
  return out.good();
}

/// What seal and prepare call, without writing the image.
Cost build_in_process(const fs::path& data) {
  Cost best;
  for (int run = 0; run < 3; ++run) {
    const auto begin = std::chrono::steady_clock::now();
    const auto source = open_file(data);
    if (!source) std::exit(1);
    const Bytes salt(32, std::byte{0xaa});
    const auto tree = verified::build_hash_tree(
        [&](std::uint64_t at, MutableView into) { return (*source)->read_at(at, into); },
        (*source)->size(), DigestKind::Sha256, salt, {.jobs = 2});
    if (!tree) std::exit(1);
    const std::chrono::duration<double> took = std::chrono::steady_clock::now() - begin;
    best.seconds = std::min(best.seconds, took.count());
  }
  return best;
}

}  // namespace

void hash_trees(const std::string& name) {
  const fs::path folder(name);
  apart([&] { return make_data(folder / "data"); });
  const std::string wexlo = std::string(WEXLO_PROGRAM) + " --quiet --jobs 2 ";
  const std::string salt = std::string(64, 'a');
  const std::string common = " --no-superblock --hash sha256 --salt " + salt + " --data-blocks " +
                             std::to_string(kSize * kMiB / 4096) +
                             " --data-block-size 4096 --hash-block-size 4096";
  const Cost built = shell(
      2, folder, "rm -f tree; veritysetup format data tree" + common + " | grep Root > root.txt");
  const Cost sealed = shell(2, folder,
                            wexlo + "seal system=data --partition-size 1200M --fec 0 --salt " +
                                salt + " -o out --new-vbmeta vbmeta --force");
  compare("hash tree built in memory", build_in_process(folder / "data"), "veritysetup format",
          built, 0.6);
  // The partition's image holds data and tree: seal writes both.
  const Cost copied = shell(2, folder, "rm -f copy; cp data copy");
  compare("seal: the image with its tree", sealed, "cp of the data, and veritysetup format",
          {built.seconds + copied.seconds, built.read_bytes + copied.read_bytes, built.peak_bytes},
          1.0);
  const Cost checked = shell(3, folder, wexlo + "check out --lock-state unlocked");
  const Cost verified =
      shell(3, folder,
            "veritysetup verify data tree $(tr -d '[:space:]' < root.txt | cut -d: -f2)" + common);
  compare("check: every block of the tree", checked, "veritysetup verify", verified, 0.6);
}

}  // namespace wexlo::bench
