/// Firmware containers against general tools doing the same work on the same bytes.

#include <fcntl.h>
#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <filesystem>

#include "base/output.hpp"
#include "codec/codec.hpp"
#include "demo/containers.hpp"
#include "demo/gnomon.hpp"
#include "demo/images.hpp"
#include "measure.hpp"
#include "payload_manifest.pb.h"

namespace fs = std::filesystem;

namespace wexlo::bench {
namespace {

constexpr std::size_t kPiece = 2u << 20;

/// Partitions of xz operations; the blobs of each also lie in two files, for the tools.
bool make_payload(const fs::path& folder, std::size_t partitions, std::size_t mib_each) {
  const Context context{.jobs = 2};
  std::vector<demo::PayloadPartition> all;
  for (std::size_t i = 0; i < partitions; ++i) {
    Bytes raw = demo::system_image((i == 0 ? 64 : mib_each) * kMiB, "n=" + std::to_string(i));
    // Every byte differs from zero, so that no piece becomes a ZERO operation.
    for (auto& byte : raw)
      byte |= std::byte{1};
    all.push_back({i == 0 ? "boot" : "p" + std::to_string(i), std::move(raw)});
  }
  const auto payload = demo::full_payload(all, 0, "", context);
  if (!payload || !write_file(folder / "big.bin", *payload, Overwrite::Replace)) return false;
  // The tools get the very blobs that the payload holds: each second one in each file.
  manifest::Manifest manifest;
  const auto size = load<std::uint64_t, std::endian::big>(payload->data() + 12);
  if (!manifest.ParseFromArray(payload->data() + 24, static_cast<int>(size))) return false;
  const View blobs = View(*payload).subspan(24 + static_cast<std::size_t>(size));
  Bytes half[2], own[2];
  std::size_t i = 0;
  for (const auto& update : manifest.partitions())
    for (const auto& operation : update.operations()) {
      if (operation.type() != 8) continue;
      const View blob = blobs.subspan(operation.data_offset(), operation.data_length());
      append(half[i % 2], blob);
      if (update.name() == "boot") append(own[i % 2], blob);
      ++i;
    }
  bool good = true;
  for (std::size_t side = 0; side < 2; ++side)
    good = good &&
           write_file(folder / fmt::format("h{}.xz", side), half[side], Overwrite::Replace) &&
           write_file(folder / fmt::format("own{}.xz", side), own[side], Overwrite::Replace);
  return good;
}

/// Into a new folder each time: replacing a file makes the system flush it.
Cost extract(const fs::path& folder, int runs, const std::string& file, const std::string& words) {
  Cost best;
  for (int i = 0; i < runs; ++i) {
    fs::remove_all(folder / "out");
    const Cost cost = best_of(1, {"bash", "-c",
                                  fmt::format("cd {} && exec {} extract {} -o out --jobs 2 {}",
                                              folder.string(), WEXLO_PROGRAM, file, words)});
    if (cost.seconds < best.seconds) best = cost;
  }
  fs::remove_all(folder / "out");
  return best;
}

Cost tools(const fs::path& folder, int runs, const std::string& line) {
  return best_of(runs, {"bash", "-c", "set -e; cd " + folder.string() + "; " + line});
}

void ratio(std::string_view what, const Cost& ours, const Cost& theirs, double wanted) {
  show(what, ours);
  show("  the same work by general tools", theirs);
  fmt::print("  ratio: {:.2f} (wanted: at most {})\n", ours.seconds / theirs.seconds, wanted);
}

void payloads(const fs::path& folder) {
  apart([&] { return make_payload(folder, 5, 240); });
  const Cost all = extract(folder, 3, "big.bin", "--all");
  const Cost both = tools(folder, 3,
                          "xz -dc h0.xz > r0 & xz -dc h1.xz > r1; wait; "
                          "sha256sum h0.xz r0 & sha256sum h1.xz r1; wait");
  ratio("payload: 1024 MiB of xz operations, all, verified", all, both, 1.1);
  const Cost one = extract(folder, 5, "big.bin", "boot");
  const std::uint64_t own = fs::file_size(folder / "own0.xz") + fs::file_size(folder / "own1.xz");
  const Cost limit = tools(folder, 5,
                           "xz -dc own0.xz > r0 & xz -dc own1.xz > r1; wait; "
                           "sha256sum own0.xz r0 & sha256sum own1.xz r1; wait");
  ratio("payload: one partition of 64 MiB", one, limit, 1.2);
  fmt::print("  read {} bytes more than its blobs (wanted: at most {})\n",
             static_cast<std::int64_t>(one.read_bytes) - static_cast<std::int64_t>(own) -
                 static_cast<std::int64_t>(64 * kMiB),
             kMiB);
  for (const char* file : {"big.bin", "h0.xz", "h1.xz", "own0.xz", "own1.xz", "r0", "r1"})
    fs::remove(folder / file);
}

/// 4 GiB of stored blobs in a zip: the file's holes cost no disk.
bool make_large_ota(const fs::path& folder, std::size_t gib) {
  constexpr std::size_t kEach = 64;  // partitions
  const std::uint64_t each = gib * 1024 / kEach * kMiB;
  manifest::Manifest manifest;
  for (std::size_t i = 0; i < kEach; ++i) {
    auto* update = manifest.add_partitions();
    update->set_name("p" + std::to_string(i));
    update->mutable_new_info()->set_size(each);
    for (std::uint64_t at = 0; at < each; at += kPiece) {
      auto* operation = update->add_operations();
      operation->set_type(0);
      operation->set_data_offset(i * each + at);
      operation->set_data_length(kPiece);
      auto* extent = operation->add_dst_extents();
      extent->set_start_block(at / 4096);
      extent->set_num_blocks(kPiece / 4096);
    }
  }
  const std::string raw = manifest.SerializeAsString();
  Bytes head;
  BeWriter writer(head);
  writer.text("CrAU", 4);
  writer.put(std::uint64_t{2});
  writer.put(std::uint64_t{raw.size()});
  writer.put(std::uint32_t{0});
  writer.put(as_view(raw));
  auto file = OutputFile::create(folder / "payload.bin", Overwrite::Replace);
  if (!file || !file->resize(head.size() + kEach * each) || !file->write_at(0, head) ||
      !file->commit())
    return false;
  return std::system(("cd " + folder.string() +
                      " && rm -f ota.zip && zip -q -0 ota.zip payload.bin && rm payload.bin")
                         .c_str()) == 0;
}

void inspections(const fs::path& folder) {
  for (const std::size_t gib : {std::size_t{1}, std::size_t{4}}) {
    apart([&] { return make_large_ota(folder, gib); });
    const Cost cost = best_of(9, {WEXLO_PROGRAM, "inspect", (folder / "ota.zip").string()});
    show(fmt::format("inspect of an over-the-air zip of {} GiB, 64 partitions", gib), cost);
    fmt::print("  wanted: at most {} ms, 4 MiB read, 96 MiB peak\n", 50 + 2 * 64);
  }
  fs::remove(folder / "ota.zip");
}

/// Raw, sparse, and super with the same content in two logical partitions.
bool make_images(const fs::path& folder, std::size_t mib) {
  const Bytes raw = demo::system_image(mib * kMiB, "size=" + std::to_string(mib));
  const Bytes half(raw.begin(), raw.begin() + static_cast<std::ptrdiff_t>(raw.size() / 2));
  const Bytes rest(raw.begin() + static_cast<std::ptrdiff_t>(raw.size() / 2), raw.end());
  const Bytes super =
      demo::super_image({{"system_a", half}, {"vendor_a", rest}}, raw.size() + 4 * kMiB, "g");
  return write_file(folder / "raw.img", raw, Overwrite::Replace).has_value() &&
         write_file(folder / "sparse.img", demo::sparse_piece(raw, 0, raw.size() / 4096),
                    Overwrite::Replace)
             .has_value() &&
         write_file(folder / "super.img", super, Overwrite::Replace).has_value();
}

void copies(const fs::path& folder) {
  apart([&] { return make_images(folder, 1024); });
  const Cost raw = tools(folder, 5, "rm -f copy; exec cp --sparse=always raw.img copy");
  ratio("sparse to raw, 1024 MiB", extract(folder, 7, "sparse.img", ""), raw, 1.2);
  ratio("super to two logical partitions, 1024 MiB", extract(folder, 7, "super.img", "--all"), raw,
        1.2);
  show("sparse to raw, --digests", extract(folder, 3, "sparse.img", "--digests"));
  show("super to two logical partitions, --digests",
       extract(folder, 3, "super.img", "--all --digests"));
  const Cost sums =
      tools(folder, 5, "cp --sparse=always raw.img copy & sha256sum raw.img; wait; rm copy");
  show("cp --sparse=always and sha256sum, side by side", sums);
}

}  // namespace

void containers(const std::string& folder) {
  payloads(folder);
  inspections(folder);
  copies(folder);
}

}  // namespace wexlo::bench
