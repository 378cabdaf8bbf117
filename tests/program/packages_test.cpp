/// One phone's images in every kind of package: each gives the same kit for the right phone, is
/// refused for another, and leaves nothing behind when it is damaged.

#include <algorithm>

#include "base/digest.hpp"
#include "program/bench.hpp"
#include "support/packages.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

struct Kind {
  std::string name;                          ///< what `prepare` is given
  std::map<std::string, std::string> files;  ///< one package, or a folder's files
  std::string way{};                         ///< "bootloader", "download"; empty: not told
};

std::vector<Member> all_of(const Bench& bench, const std::string& before = "",
                           const std::string& ending = ".img") {
  std::vector<Member> out;
  for (const char* name : {"boot", "init_boot", "vendor_boot", "vbmeta"})
    out.push_back({before + name + ending, bench.images.at(name)});
  return out;
}

std::string scatter_of(const Bench& bench) {
  std::string out = "- general: CHIPSET_CFG\n  info:\n    - platform: KV6785\n      storage: UFS\n";
  for (const Member& one : all_of(bench))
    out += "- partition_index: SYS1\n  partition_name: " + one.name.substr(0, one.name.size() - 4) +
           "_a\n  file_name: " + one.name +
           "\n  is_download: true\n  linear_start_addr: 0x8000000\n"
           "  partition_size: 0x2000000\n  region: UFS_LU2\n";
  return out;
}

std::string sectors_of(const Bench& bench) {
  std::string rows;
  unsigned at = 1000;
  for (const Member& one : all_of(bench)) {
    rows += "<program SECTOR_SIZE_IN_BYTES=\"4096\" filename=\"" + one.name + "\" label=\"" +
            one.name.substr(0, one.name.size() - 4) + "_a\" start_sector=\"" + std::to_string(at) +
            "\" num_partition_sectors=\"64\" file_sector_offset=\"0\" sparse=\"false\"/>\n";
    at += 64;
  }
  return "<?xml version=\"1.0\"?>\n<data>\n" + rows + "</data>\n";
}

std::string summed(const std::string& archive, const std::string& name) {
  return archive + wexlo::hex(wexlo::digest(wexlo::DigestKind::Md5, wexlo::as_view(archive))) +
         "  " + name + "\n";
}

std::map<std::string, std::string> folder_of(const std::vector<Member>& members) {
  std::map<std::string, std::string> out;
  for (const Member& one : members)
    out[one.name] = one.data;
  return out;
}

std::vector<Kind> kinds_of(const Bench& bench) {
  const auto images = all_of(bench);
  const auto with = [&](std::vector<Member> more, std::vector<Member> list) {
    list.insert(list.end(), more.begin(), more.end());
    return list;
  };
  const Member script{"write-images.sh",
                      "fastboot flash boot boot.img\nfastboot flash init_boot init_boot.img\n"
                      "fastboot flash vendor_boot vendor_boot.img\n"
                      "fastboot flash vbmeta vbmeta.img\n"};
  const Member info{"android-info.txt", "require board=gnomon\n"};
  std::vector<RecordBytes> records;
  std::vector<PackedFile> packed;
  std::vector<Member> frames;
  for (const Member& one : images) {
    std::string name = one.name.substr(0, one.name.size() - 4);
    packed.push_back({.id = name, .name = name + "-sign.img", .data = one.data});
    std::ranges::transform(name, name.begin(), [](unsigned char c) { return std::toupper(c); });
    records.push_back({.name = name, .data = one.data});
    frames.push_back({one.name + ".lz4", lz4_frame(one.data)});
  }
  const std::string part = tar(frames), name = "PART1_KV730BXXU5CZK1_X.tar";
  const std::string inner = zip(images);
  auto scatter = folder_of(images), sectors = folder_of(images);
  scatter["KV6785_scatter.txt"] = scatter_of(bench);
  sectors["program0.xml"] = sectors_of(bench);
  return {
      {"ota.zip", {{"", bench.ota()}}, "bootloader"},
      {"images.zip", {{"", inner}}},
      {"factory.zip", {{"", zip(with({info}, images))}}, "bootloader"},
      {"outer.zip", {{"", zip({{"image-gnomon.zip", zip(with({info}, images))}})}}, "bootloader"},
      {"stub.exe", {{"", "MZ" + noise(3000) + inner}}},
      {"images.tgz", {{"", gzip(tar(with({script}, images)))}}, "bootloader"},
      {name + ".md5", {{"", summed(part, name)}}, "download"},
      {"parts.zip", {{"", zip({{name + ".md5", summed(part, name), true}})}}, "download"},
      {"record.bin", {{"", record_container(records)}}},
      {"record.zip", {{"", zip({{"dload/record.bin", record_container(records), true}})}}},
      {"packed.bin", {{"", DownloadBytes{.files = packed, .product = "gnomon"}.done()}}},
      {"scatter", scatter},
      {"sectors", sectors},
      {"folder", folder_of(images)},
  };
}

void put_down(const Bench& bench, const Kind& kind) {
  for (const auto& [file, content] : kind.files)
    write(file.empty() ? bench.dir / kind.name : bench.dir / (kind.name + "/" + file), content);
}

std::vector<std::string> words_for(const Kind& kind, const std::string& sheet,
                                   const std::string& kit) {
  return {"prepare", kind.name, "-r", "r.toml", "-r", "flags.toml", "--sheet", sheet, "-o", kit};
}

}  // namespace

TEST_CASE("packages: the same images give the same patched images, whatever they came in") {
  const Bench bench;
  std::map<std::string, std::string> first;
  for (const Kind& kind : kinds_of(bench)) {
    CAPTURE(kind.name);
    put_down(bench, kind);
    const std::string kit = "kit-" + kind.name;
    const Json done = program_json(bench.dir, words_for(kind, "sheet.toml", kit));
    CHECK(done["result"]["target"] == "init_boot");
    CHECK(codes(done).contains("way-unknown") == kind.way.empty());
    const std::string plan = read(bench.dir / (kit + "/plan.toml"));
    CHECK(plan.contains("hand-over") == (kind.way == "download"));
    std::map<std::string, std::string> made;
    for (const std::string& file : files_of(bench.dir / (kit + "/flash")))
      if (file.ends_with(".img")) made[file] = read(bench.dir / (kit + "/flash/" + file));
    if (first.empty()) first = made;
    CHECK(made.size() == 2);
    CHECK(made == first);
    CHECK(program(bench.dir, {"check", kit}).exit_code == 0);
  }
}

TEST_CASE("packages: what only the images say of the build is known to prepare, packed or not") {
  Bench bench;
  bench.images["init_boot"] =
      image_of_build(BootBytes{.ramdisk = lz4_legacy(init_ramdisk())}.done(), "init_boot", kBuild,
                     "2026-09-05", 1u << 18);
  write(bench.dir / "set.tar", tar(all_of(bench)));
  // In one stream with others an image's end is too dear to be looked at on opening.
  write(bench.dir / "set.tgz", gzip(tar(all_of(bench))));
  write(bench.dir / "around.zip", zip({{"set.tgz", gzip(tar(all_of(bench)))}}));
  for (const char* name : {"set.tar", "set.tgz", "around.zip"}) {
    CAPTURE(name);
    const Json done =
        program_json(bench.dir, {"prepare", name, "-r", "r.toml", "-r", "flags.toml", "--dry-run"});
    CHECK(done["result"]["build"] == kBuild);
    CHECK(done["result"]["device"] == "gnomon");
  }
}

TEST_CASE(
    "packages: for a phone of another processor, or with smaller partitions, each is refused") {
  const Bench bench;
  std::string other = bench.sheet(), small = bench.sheet();
  other.replace(other.find("arm64"), 5, "riscv64");
  const std::string room = "init_boot_a = 262144";
  small.replace(small.find(room), room.size(), "init_boot_a = 131072");
  write(bench.dir / "other.toml", other);
  write(bench.dir / "small.toml", small);
  for (const Kind& kind : kinds_of(bench)) {
    CAPTURE(kind.name);
    put_down(bench, kind);
    const auto before = bench.dir.names();
    for (const auto& [sheet, found] :
         {std::pair{"other.toml", "architecture"}, {"small.toml", "partition-size-init_boot"}}) {
      const Json refused = program_json(bench.dir, words_for(kind, sheet, "no"), 1);
      const std::string named = refused["error"]["found"];
      CAPTURE(named);
      CHECK(named.contains(found));
    }
    CHECK(bench.dir.names() == before);
  }
}

TEST_CASE(
    "packages: a small file that cannot be read is judged by its size, and stops nothing else") {
  const Bench bench;
  auto members = all_of(bench);
  members.push_back({"dtb.img", "soon"});
  std::string package = zip(members);
  // The file alone is encrypted: bit 0 of the flags in both of its headers.
  package[package.find("dtb.img") - 24] |= 1;
  package[package.rfind("dtb.img") - 38] |= 1;
  write(bench.dir / "images.zip", package);
  const Kind kind{"images.zip", {}, {}};
  const Json told = program_json(bench.dir, words_for(kind, "sheet.toml", "no"), 1);
  CHECK(told["error"]["found"] == "placeholder-dtb");
  auto words = words_for(kind, "sheet.toml", "kit");
  words.insert(words.end(), {"--accept", "placeholder-dtb"});
  CHECK(program_json(bench.dir, words)["ok"] == true);
}

TEST_CASE("packages: cut short, each is an error, and no kit appears") {
  const Bench bench;
  for (const Kind& kind : kinds_of(bench)) {
    if (kind.files.size() != 1) continue;  // a folder's files are images
    CAPTURE(kind.name);
    const std::string& whole = kind.files.begin()->second;
    for (const std::size_t keep : {whole.size() / 50, whole.size() / 3, whole.size() - 700}) {
      CAPTURE(keep);
      write(bench.dir / kind.name, whole.substr(0, keep));
      const auto before = bench.dir.names();
      const Ran ran = program(bench.dir, words_for(kind, "sheet.toml", "no"));
      CHECK(ran.exit_code == 3);
      CHECK(ran.err.contains(kind.name));
      CHECK(bench.dir.names() == before);
      CHECK(read(bench.dir / kind.name) == whole.substr(0, keep));
    }
  }
}
