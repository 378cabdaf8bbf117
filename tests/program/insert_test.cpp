/// Images put into packages of every kind, judged by general programs and read out again.

#include <sstream>
#include <tuple>

#include "base/digest.hpp"
#include "program/support.hpp"
#include "support/boot.hpp"
#include "support/containers.hpp"
#include "support/of_build.hpp"
#include "support/payload.hpp"
#include "support/vbmeta.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

constexpr std::size_t kSector = 512;

std::string md5(const std::string& bytes) {
  return wexlo::hex(wexlo::digest(wexlo::DigestKind::Md5, wexlo::as_view(bytes)));
}

struct InsertBench {
  InsertBench() {
    boot = with_footer(BootBytes{.kernel = noise(30000)}.done(), "boot", 1u << 17);
    vbmeta_image = padded(vbmeta(property_descriptor("a", "b")), 4096);
    fresh = with_footer(BootBytes{.kernel = noise(40000, 5)}.done(), "boot", 1u << 17);
    write(dir / "new.img", fresh);
    layout.size = 1u << 20;
    layout.partitions = {{"system", {{64, 400}}}, {"vendor", {{16, 600}}}};
    super = layout.done();
    super.replace(400 * kSector, 64 * kSector, noise(64 * kSector, 7));
    super.replace(600 * kSector, 16 * kSector, noise(16 * kSector, 8));
    system = noise(96 * kSector, 9);
    write(dir / "system.img", system);
  }
  /// Puts it in, and takes everything out of old and new.
  Json insert(const std::string& package, std::vector<std::string> what, const std::string& out,
              int wanted = 0) const {
    std::vector<std::string> words{"insert", package};
    words.insert(words.end(), what.begin(), what.end());
    words.insert(words.end(), {"-o", out});
    const std::string before = fs::is_directory(dir / package) ? "" : read(dir / package);
    Json got = program_json(dir, words, wanted);
    if (!before.empty()) CHECK(read(dir / package) == before);
    return got;
  }
  [[nodiscard]] std::string taken(const std::string& package, const std::string& name) const {
    fs::remove_all(dir / "taken");
    const Ran ran = program(dir, {"extract", package, name, "-o", "taken"});
    CAPTURE(ran.err);
    REQUIRE(ran.exit_code == 0);
    for (const auto& one : fs::directory_iterator(dir / "taken"))
      if (one.path().extension() == ".img") return read(one.path());
    return {};
  }
  TempDir dir;
  std::string boot, vbmeta_image, fresh, super, system;
  SuperBytes layout;
};

/// In three sparse pieces.
std::vector<Member> pieces(const std::string& super, const std::string& name) {
  std::vector<Member> out;
  const std::size_t third = super.size() / 3 / 4096 * 4096;
  for (unsigned i = 0; i < 3; ++i) {
    const std::size_t from = i * third, size = i == 2 ? super.size() - from : third;
    SparseBytes piece;
    if (from > 0) piece.skip(static_cast<std::uint32_t>(from / 4096));
    piece.raw(super.substr(from, size));
    const std::size_t left = super.size() - from - size;
    if (left > 0) piece.skip(static_cast<std::uint32_t>(left / 4096));
    out.push_back({name + std::to_string(i), piece.done(), true});
  }
  return out;
}

}  // namespace

TEST_CASE("insert: a zip: the other members keep their bytes, digest lists stay true") {
  const InsertBench bench;
  write(bench.dir / "fw.zip",
        zip({{"img/boot.img", bench.boot, true},
             {"img/vbmeta.img", bench.vbmeta_image},
             {"img/md5sums.txt",
              md5(bench.boot) + "  boot.img\n" + md5(bench.vbmeta_image) + "  vbmeta.img\n"},
             {"read me.txt", "hello", true}}));
  const Json done = bench.insert("fw.zip", {"boot=new.img"}, "out.zip");
  CHECK(done["result"]["images"][0]["name"] == "boot");
  CHECK(done["result"]["images"][0]["sha256"] == hex_of(sha256(bench.fresh)));
  CHECK(done["result"]["lists"][0].get<std::string>().ends_with("img/md5sums.txt"));
  CHECK(says(done, "vbmeta-stays"));
  CHECK(run({"unzip", "-tq", "out.zip"}, bench.dir.path().string()).exit_code == 0);
  REQUIRE(shell("mkdir u && cd u && unzip -q ../out.zip", bench.dir.path().string()).exit_code ==
          0);
  CHECK(read(bench.dir / "u/img/boot.img") == bench.fresh);
  CHECK(read(bench.dir / "u/img/vbmeta.img") == bench.vbmeta_image);
  CHECK(shell("cd u/img && md5sum --quiet -c md5sums.txt", bench.dir.path().string()).exit_code ==
        0);
  CHECK(bench.insert("fw.zip", {"boot=new.img"}, "again.zip")["ok"] == true);
  CHECK(read(bench.dir / "again.zip") == read(bench.dir / "out.zip"));
}

TEST_CASE("insert: a zip in a zip, stored or deflated, and what names the inner one") {
  const InsertBench bench;
  for (const bool deflated : {false, true}) {
    const std::string inner =
        zip({{"boot.img", bench.boot, true}, {"vbmeta.img", bench.vbmeta_image}});
    write(bench.dir / "fw.zip", zip({{"phone/image.zip", inner, deflated},
                                     {"phone/sums.md5", md5(inner) + " *image.zip\n"}}));
    CHECK(bench.insert("fw.zip", {"boot=new.img"}, deflated ? "d.zip" : "s.zip")["ok"] == true);
    const std::string out = deflated ? "d.zip" : "s.zip";
    CHECK(bench.taken(out, "boot") == bench.fresh);
    CHECK(bench.taken(out, "vbmeta") == bench.vbmeta_image);
    CHECK(shell("rm -rf u; mkdir u && cd u && unzip -q ../" + out +
                    " && cd phone && md5sum --quiet -c "
                    "sums.md5 && unzip -tq image.zip",
                bench.dir.path().string())
              .exit_code == 0);
  }
}

TEST_CASE("insert: a tar with packed members and a sum line, which is made anew") {
  const InsertBench bench;
  const std::string body = tar(
      {{"boot.img.lz4", lz4_frame(bench.boot)}, {"vbmeta.img.lz4", lz4_frame(bench.vbmeta_image)}});
  write(bench.dir / "fw.tar.md5", body + md5(body) + "  fw.tar\n");
  const Json done = bench.insert("fw.tar.md5", {"boot=new.img"}, "out.tar.md5");
  CHECK(done["result"]["sum_line"] == true);
  const std::string bytes = read(bench.dir / "out.tar.md5");
  const std::string line = bytes.substr(bytes.size() - 32 - 2 - 8);
  CHECK(line == md5(bytes.substr(0, bytes.size() - line.size())) + "  out.tar\n");
  CHECK(
      shell("tar xOf out.tar.md5 boot.img.lz4 | lz4 -dc | cmp - new.img", bench.dir.path().string())
          .exit_code == 0);
  CHECK(shell("tar xOf out.tar.md5 vbmeta.img.lz4 | md5sum", bench.dir.path().string()).out ==
        shell("tar xOf fw.tar.md5 vbmeta.img.lz4 | md5sum", bench.dir.path().string()).out);
  // A package whose sum is wrong already would get one that says otherwise.
  std::string bad = body;
  bad[bad.size() - 100] ^= 1;
  write(bench.dir / "bad.tar.md5", bad + md5(body) + "  fw.tar\n");
  CHECK(bench.insert("bad.tar.md5", {"boot=new.img"}, "x.tar.md5", 3)["error"]["code"] ==
        "digest-mismatch");
  CHECK_FALSE(fs::exists(bench.dir / "x.tar.md5"));
}

TEST_CASE("insert: a folder of a repair tool: listings of each form stay true, other files stay") {
  const InsertBench bench;
  const auto fill = [&](const std::string& name, const std::string& listing) {
    write(bench.dir / "fw/boot.img", bench.boot);
    write(bench.dir / "fw/vbmeta.img", bench.vbmeta_image);
    write(bench.dir / "fw/sub/tool.exe", "program");
    write(bench.dir / ("fw/" + name), listing);
  };
  // Larger than before: the size is named, too.
  const std::string larger = BootBytes{.kernel = noise(200000, 5)}.done();
  write(bench.dir / "large.img", larger);
  const std::string old_size = std::to_string(bench.boot.size()),
                    new_size = std::to_string(larger.size());
  const struct {
    const char* name;
    std::string text, wanted;
  } forms[] = {
      {"flash.xml",
       "<all>\n<step operation=\"flash\" partition=\"boot\" filename=\"boot.img\" MD5=\"" +
           md5(bench.boot) + "\" size=\"" + old_size +
           "\"/>\n<step operation=\"flash\" "
           "partition=\"vbmeta\" filename=\"vbmeta.img\" MD5=\"" +
           md5(bench.vbmeta_image) + "\" size=\"4096\"/></all>\n",
       "<all>\n<step operation=\"flash\" partition=\"boot\" filename=\"boot.img\" MD5=\"" +
           md5(larger) + "\" size=\"" + new_size +
           "\"/>\n<step operation=\"flash\" "
           "partition=\"vbmeta\" filename=\"vbmeta.img\" MD5=\"" +
           md5(bench.vbmeta_image) + "\" size=\"4096\"/></all>\n"},
      {"list.cfg",
       "partition: boot\nfile: boot.img\nsha256: " + hex_of(sha256(bench.boot)) +
           "\nbytes: " + old_size + "\n\npartition: vbmeta\nfile: vbmeta.img\n",
       "partition: boot\nfile: boot.img\nsha256: " + hex_of(sha256(larger)) +
           "\nbytes: " + new_size + "\n\npartition: vbmeta\nfile: vbmeta.img\n"},
      {"SHA256SUMS", hex_of(sha256(bench.boot)) + "  boot.img\n",
       hex_of(sha256(larger)) + "  boot.img\n"},
  };
  for (const auto& form : forms) {
    CAPTURE(form.name);
    fs::remove_all(bench.dir / "fw");
    fs::remove_all(bench.dir / "out");
    fill(form.name, form.text);
    const Json done = bench.insert("fw", {"boot=large.img", "--accept", "other-size-boot"}, "out");
    CHECK(says(done, "other-size-boot"));
    CHECK(read(bench.dir / ("out/" + std::string(form.name))) == form.wanted);
    CHECK(read(bench.dir / "out/boot.img") == larger);
    CHECK(read(bench.dir / "out/vbmeta.img") == bench.vbmeta_image);
    CHECK(read(bench.dir / "out/sub/tool.exe") == "program");
    CHECK(read(bench.dir / "fw/boot.img") == bench.boot);
    CHECK(bench.taken("out", "boot") == larger);
    CHECK(Json::parse(read(bench.dir / "out/insert.json"))["inserted"][0]["sha256"] ==
          hex_of(sha256(larger)));
  }
}

TEST_CASE("insert: a logical partition in super: raw, sparse, packed, in pieces, in a zip") {
  const InsertBench bench;
  SparseBytes sparse;
  sparse.raw(bench.super);
  write(bench.dir / "super.img", bench.super);
  write(bench.dir / "sparse.img", sparse.done());
  write(bench.dir / "super.img.gz", gzip(sparse.done()));
  write(bench.dir / "fw.zip", zip(pieces(bench.super, "super.img_sparsechunk.")));
  for (const std::string package : {"super.img", "sparse.img", "super.img.gz", "fw.zip"}) {
    CAPTURE(package);
    const std::string out = "out-" + package;
    CHECK(bench.insert(package, {"system=system.img"}, out)["ok"] == true);
    CHECK(bench.taken(out, "system") == bench.system);
    CHECK(bench.taken(out, "vendor") == noise(16 * kSector, 8));
  }
  // As sparse, packed and in as many files as before.
  CHECK(read(bench.dir / "out-sparse.img").substr(0, 4) ==
        read(bench.dir / "sparse.img").substr(0, 4));
  CHECK(shell("gzip -t out-super.img.gz", bench.dir.path().string()).exit_code == 0);
  CHECK(shell("unzip -l out-fw.zip | grep -c sparsechunk", bench.dir.path().string()).out == "3\n");
  // Free room is left to the phone: it does not come along.
  CHECK(fs::file_size(bench.dir / "out-sparse.img") < bench.super.size() / 2);
  write(bench.dir / "huge.img", std::string(2u << 20, 'x'));
  const Json full = bench.insert("super.img", {"system=huge.img"}, "x.img", 1);
  CHECK(full["error"]["code"] == "does-not-fit");
  CHECK_FALSE(fs::exists(bench.dir / "x.img"));
}

TEST_CASE("insert: several images at once, in different places") {
  const InsertBench bench;
  std::vector<Member> members = pieces(bench.super, "super.img.part-");
  members.push_back({"boot.img", bench.boot, true});
  write(bench.dir / "fw.zip", zip(members));
  write(bench.dir / "vendor.img", noise(8 * kSector, 4));
  CHECK(bench.insert("fw.zip", {"boot=new.img", "system=system.img", "vendor=vendor.img"},
                     "out.zip")["ok"] == true);
  CHECK(bench.taken("out.zip", "boot") == bench.fresh);
  CHECK(bench.taken("out.zip", "system") == bench.system);
  CHECK(bench.taken("out.zip", "vendor") == noise(8 * kSector, 4));
}

TEST_CASE("insert: signatures that break are told") {
  const InsertBench bench;
  const std::string comment = "signed" + std::string("\x0c\x00\xff\xff\x0c\x00", 6);
  write(bench.dir / "fw.zip", zip({{"boot.img", bench.boot}, {"META-INF/CERT.SF", "x"}}, comment));
  const Json done = bench.insert("fw.zip", {"boot=new.img"}, "out.zip");
  CHECK(says(done, "signature-gone"));
  CHECK(says(done, "signature-stale"));
}

TEST_CASE("insert: what cannot be done says why, and writes nothing") {
  const InsertBench bench;
  PayloadBytes payload;
  payload.partitions = {partition_of("boot", bench.boot, 1)};
  write(bench.dir / "ota.zip", zip({{"payload.bin", payload.done()}}));
  write(bench.dir / "payload.bin", payload.done());
  write(bench.dir / "fw.zip", zip({{"boot.img", bench.boot}}));
  write(bench.dir / "vbmeta.img", bench.vbmeta_image);
  const auto before = bench.dir.names();
  CHECK(bench.insert("ota.zip", {"boot=new.img"}, "x", 4)["error"]["code"] == "unsupported");
  CHECK(bench.insert("payload.bin", {"boot=new.img"}, "x", 4)["error"]["code"] == "unsupported");
  CHECK(bench.insert("fw.zip", {"init_boot=new.img"}, "x", 5)["error"]["code"] == "not-found");
  CHECK(bench.insert("fw.zip", {"boot=none.img"}, "x", 5)["error"]["code"] == "not-found");
  CHECK(bench.insert("fw.zip", {"boot=vbmeta.img"}, "x", 1)["error"]["found"] ==
        "other-kind-boot, other-size-boot");
  CHECK(bench.insert("fw.zip", {"boot=new.img", "boot=new.img"}, "x", 2)["error"]["code"] ==
        "usage");
  CHECK(bench.insert("fw.zip", {"boot"}, "x", 2)["error"]["code"] == "usage");
  CHECK(bench.insert("fw.zip", {"boot=new.img"}, "fw.zip", 2)["error"]["code"] == "usage");
  CHECK(program_json(bench.dir, {"insert", "fw.zip", "boot=new.img", "-o", "fw.zip", "--force"},
                     2)["error"]["code"] == "usage");
  CHECK(bench.dir.names() == before);
  const Json accepted =
      program_json(bench.dir, {"insert", "fw.zip", "boot=vbmeta.img", "-o", "x.zip", "--accept",
                               "other-kind-boot", "--accept", "other-size-boot"});
  CHECK(says(accepted, "other-kind-boot"));
}

TEST_CASE(
    "insert: another partition's, phone's or build's image is a problem that --accept may name") {
  const InsertBench bench;
  const auto of = [](const std::string& partition, const std::string& device,
                     const std::string& build, BootBytes bytes) {
    return image_of_build(
        bytes.done(), partition,
        "korvale/" + device + "/" + device + ":16/" + build + "/1:user/release-keys", "2026-09-05",
        1u << 17);
  };
  const BootBytes kernel{.version = 4, .kernel = noise(30000)};
  const BootBytes ramdisk{.version = 4, .ramdisk = lz4_legacy(init_ramdisk())};
  write(bench.dir / "fw/boot.img", of("boot", "gnomon", "A", kernel));
  write(bench.dir / "fw/init_boot.img", of("init_boot", "gnomon", "A", ramdisk));
  const BootBytes old{.version = 2, .kernel = noise(30000), .dtb = device_tree("a", "b")};
  const std::vector<std::tuple<std::string, std::string, std::string>> cases{
      {"boot", of("init_boot", "gnomon", "A", ramdisk), "other-partition-boot, other-form-boot"},
      {"boot", of("boot", "vernier", "A", kernel), "other-build-boot"},
      {"boot", of("boot", "gnomon", "B", kernel), "other-build-boot"},
      {"boot", of("boot", "gnomon", "A", old), "other-header-boot"},
      {"init_boot", of("boot", "gnomon", "A", kernel),
       "other-partition-init_boot, other-form-init_boot"},
      {"boot", of("recovery", "gnomon", "A", kernel), "other-partition-boot"},
  };
  for (const auto& [partition, image, found] : cases) {
    CAPTURE(found);
    write(bench.dir / "given.img", image);
    const Json refused = bench.insert("fw", {partition + "=given.img"}, "x", 1);
    CHECK(refused["error"]["found"] == found);
    CHECK_FALSE(fs::exists(bench.dir / "x"));
    std::vector<std::string> accepted{partition + "=given.img"};
    std::istringstream all(found);
    for (std::string code; all >> code;)
      accepted.insert(accepted.end(), {"--accept", code.substr(0, code.find(','))});
    CHECK(bench.insert("fw", accepted, "x")["ok"] == true);
    CHECK(read(bench.dir / ("x/" + partition + ".img")) == image);
    fs::remove_all(bench.dir / "x");
  }
  // The same build's own is welcome.
  write(bench.dir / "given.img",
        of("boot", "gnomon", "A", {.version = 4, .kernel = noise(31000, 9)}));
  CHECK(bench.insert("fw", {"boot=given.img"}, "x")["ok"] == true);
}

TEST_CASE("insert: the sum line of a tar names the new file") {
  const InsertBench bench;
  std::string package = tar({{"boot.img", bench.boot}});
  package += md5(package) + "  fw.tar\n";
  write(bench.dir / "fw.tar.md5", package);
  for (const std::string out : {"new.tar.md5", "other.tar"}) {
    CHECK(bench.insert("fw.tar.md5", {"boot=new.img"}, out)["ok"] == true);
    const std::string bytes = read(bench.dir / out);
    const std::string line = bytes.substr(bytes.rfind('\n', bytes.size() - 2) + 1);
    CAPTURE(line);
    CHECK(line.ends_with("  " + out.substr(0, out.find(".tar")) + ".tar\n"));
    CHECK(bytes.find("fw.tar") == bytes.npos);
  }
}

TEST_CASE("insert: single images, plain and packed, and maker's formats around them") {
  const InsertBench bench;
  write(bench.dir / "boot.img", bench.boot);
  write(bench.dir / "boot.img.xz", xz(bench.boot));
  CHECK(bench.insert("boot.img", {"boot=new.img"}, "out.img")["ok"] == true);
  CHECK(read(bench.dir / "out.img") == bench.fresh);
  CHECK(bench.insert("boot.img.xz", {"boot=new.img"}, "out.img.xz")["ok"] == true);
  CHECK(shell("xz -dc out.img.xz | cmp - new.img", bench.dir.path().string()).exit_code == 0);
}

TEST_CASE("insert: into a file that a listing cuts into partitions: all around them stays") {
  const InsertBench bench;
  const std::string boot = BootBytes{.kernel = arm64_kernel("5.10.1")}.done();
  const std::string fresh = BootBytes{.kernel = arm64_kernel("5.10.2")}.done();
  REQUIRE(boot.size() <= 0x8000);
  std::string all = noise(0x10000, 7);
  all.replace(0x1000, boot.size(), boot);
  write(bench.dir / "new.img", fresh);
  write(bench.dir / "fw.zip", zip({{"all.bin", all},
                                   {"table.csv",
                                    "partition,file,start,length\nboot,all.bin,0x1000,0x8000\nmisc,"
                                    "all.bin,0x9000,0x1000\n"}}));
  CHECK(bench.insert("fw.zip", {"boot=new.img"}, "out.zip")["ok"] == true);
  REQUIRE(shell("unzip -qo out.zip all.bin", bench.dir.path().string()).exit_code == 0);
  const std::string now = read(bench.dir / "all.bin");
  REQUIRE(now.size() == all.size());
  CHECK(now.substr(0, 0x1000) == all.substr(0, 0x1000));
  CHECK(now.substr(0x1000, 0x8000) == field(fresh, 0x8000));
  CHECK(now.substr(0x9000) == all.substr(0x9000));
}
