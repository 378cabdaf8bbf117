/// Packages made by general tools (tar, zip, lz4, xz, brotli, sgdisk, veritysetup), opened by the
/// built program.

#include <sys/stat.h>
#include <unistd.h>

#include "program/tool_bench.hpp"
#include "support/containers.hpp"
#include "support/rounds.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

TEST_CASE("containers: what general tools pack, Wexlo opens") {
  const ToolBench bench;
  bench.tools("zip -q plain.zip boot.img dtbo.img && zip -q -0 stored.zip boot.img dtbo.img");
  bench.tools("lz4 -q --content-size boot.img boot.img.lz4 && lz4 -q dtbo.img dtbo.img.lz4");
  bench.tools(
      "tar -H ustar -cf AP.tar boot.img.lz4 dtbo.img.lz4 && cp AP.tar AP.tar.md5 && "
      "md5sum AP.tar >> AP.tar.md5");
  bench.tools(
      "tar -czf gnu.tar.gz boot.img dtbo.img && tar --format=pax -cf pax.tar boot.img dtbo.img");
  bench.tools(
      "mkdir f && cp plain.zip f/image-x.zip && zip -q -r nested.zip f && zip -q -0 -r window.zip "
      "f");
  // Sizes in 64 bits; sizes behind the data, as a packer writes them that cannot go back.
  bench.tools("zip -q -fz z64.zip boot.img dtbo.img && zip -q - boot.img dtbo.img > stream.zip");
  bench.tools("xz -k -T1 plain.zip && zstd -q plain.zip && bzip2 -k pax.tar");
  bench.tools("mkdir loose && cp boot.img dtbo.img loose && mkdir set && cp AP.tar.md5 set");
  for (const char* package :
       {"plain.zip", "stored.zip", "nested.zip", "window.zip", "z64.zip", "stream.zip"})
    bench.holds(package, "zip");
  for (const char* package : {"AP.tar", "AP.tar.md5", "pax.tar"})
    bench.holds(package, "tar");
  bench.holds("gnu.tar.gz", "gzip");
  bench.holds("plain.zip.xz", "xz");
  bench.holds("plain.zip.zst", "zstd");
  bench.holds("pax.tar.bz2", "bzip2");
  for (const char* package : {"loose", "set"})
    bench.holds(package, "folder");
}

TEST_CASE("containers: a sum line that is wrong stops the extraction; --quick does not look") {
  const ToolBench bench;
  bench.tools("tar -cf x.tar boot.img dtbo.img && cp x.tar x.tar.md5 && md5sum x.tar >> x.tar.md5");
  std::string bytes = read(bench.dir / "x.tar.md5");
  const std::size_t inside = bytes.find(bench.dtbo.substr(0, 64)) + 200;
  bytes[inside] ^= 1;
  write(bench.dir / "x.tar.md5", bytes);
  const Json error =
      program_json(bench.dir, {"extract", "x.tar.md5", "boot", "-o", "out"}, 3)["error"];
  CHECK(error["code"] == "digest-mismatch");
  CHECK(error["expected"].get<std::string>().size() == 32);
  CHECK_FALSE(fs::exists(bench.dir / "out"));
  const Json quick =
      program_json(bench.dir, {"extract", "x.tar.md5", "boot", "-o", "out", "--quick"});
  CHECK(quick["result"]["partitions"][0]["verified"] == false);
  CHECK(quick["result"]["partitions"][0]["sha256"].is_null());
}

TEST_CASE("containers: several tars given together are one set") {
  const ToolBench bench;
  bench.tools("tar -cf AP.tar boot.img && tar -cf BL.tar dtbo.img");
  for (const auto& words : {std::vector<std::string>{"AP.tar", "BL.tar", "boot", "dtbo"},
                            {"AP.tar", "--also", "BL.tar", "boot", "dtbo"}}) {
    std::vector<std::string> command{"extract"};
    command.insert(command.end(), words.begin(), words.end());
    command.insert(command.end(), {"-o", "out", "--force"});
    CHECK(program_json(bench.dir, command)["result"]["partitions"].size() == 2);
    CHECK(read(bench.dir / "out/dtbo.img") == bench.dtbo);
  }
}

TEST_CASE("containers: an encrypted member is named, exit 4; the others come out") {
  const ToolBench bench;
  bench.tools("zip -q -P secret locked.zip dtbo.img && zip -q locked.zip boot.img");
  const Json error =
      program_json(bench.dir, {"extract", "locked.zip", "dtbo", "-o", "out"}, 4)["error"];
  CHECK(error["message"].get<std::string>().find("encrypted") != std::string::npos);
  CHECK_FALSE(fs::exists(bench.dir / "out"));
  CHECK(program(bench.dir, {"extract", "locked.zip", "boot", "-o", "out"}).exit_code == 0);
}

TEST_CASE("containers: a transfer list with brotli data") {
  const ToolBench bench;
  const std::string data = noise(64 * 4096, 7);
  write(bench.dir / "system.new.dat", data);
  write(bench.dir / "system.transfer.list", "4\n64\n0\n0\nnew 4,0,32,64,96\nzero 2,32,64\n");
  bench.tools(
      "brotli -q 3 system.new.dat && rm system.new.dat && zip -q -0 ota.zip system.transfer.list "
      "system.new.dat.br boot.img");
  CHECK(program(bench.dir, {"extract", "ota.zip", "system", "boot", "-o", "out"}).exit_code == 0);
  const std::string half = data.substr(0, 32 * 4096);
  CHECK(read(bench.dir / "out/system.img") ==
        half + std::string(32 * 4096, '\0') + data.substr(half.size()));
}

TEST_CASE("containers: a disk dump that sgdisk laid out") {
  const ToolBench bench;
  bench.tools(
      "truncate -s 8M disk.bin && sgdisk -n 1:2048:4095 -c 1:boot_a -n 2:4096:6143 -c 2:boot_b "
      "disk.bin && "
      "dd if=boot.img of=disk.bin bs=512 seek=2048 conv=notrunc status=none");
  CHECK(program(bench.dir, {"extract", "disk.bin", "boot_a", "-o", "out"}).exit_code == 0);
  const std::string out = read(bench.dir / "out/boot_a.img");
  CHECK(out.size() == 2048 * 512);
  CHECK(out.substr(0, bench.boot.size()) == bench.boot);
  const Json choice =
      program_json(bench.dir, {"extract", "disk.bin", "boot", "-o", "two"}, 1)["error"];
  CHECK(choice["code"] == "ambiguous");
  bench.tools("dd if=/dev/zero of=disk.bin bs=512 seek=1 count=1 conv=notrunc status=none");
  const Json item = program_json(bench.dir, {"inspect", "disk.bin"});
  CHECK(item["findings"][0]["code"] == "gpt-backup");
}

TEST_CASE("containers: holes stay holes, and the tree of a payload is what veritysetup makes") {
  const ToolBench bench;
  write(bench.dir / "s.img", SparseBytes().raw(noise(4096)).skip(4000).raw(noise(4096, 2)).done());
  CHECK(program(bench.dir, {"extract", "s.img", "-o", "out"}).exit_code == 0);
  struct stat info {};
  REQUIRE(::stat((bench.dir / "out/s.img").c_str(), &info) == 0);
  CHECK(info.st_size == 4002 * 4096);
  CHECK(info.st_blocks * 512 < 1 << 20);

  const std::string content = noise(300 * 4096, 5), salt = noise(32, 6);
  PayloadBytes payload;
  Partition& p = payload.partitions.emplace_back(partition_of("system", content, 0, 32));
  write(bench.dir / "data", content);
  const Ran made = shell("veritysetup format --no-superblock --salt " + hex_of(salt) + " data tree",
                         bench.dir.path().string());
  REQUIRE_MESSAGE(made.exit_code == 0, made.err);
  const std::string tree = read(bench.dir / "tree");
  p.image = content + tree;
  p.generated =
      Partition::Generated{.data_blocks = 300, .tree_blocks = tree.size() / 4096, .salt = salt};
  write(bench.dir / "payload.bin", payload.done());
  CHECK(program_json(bench.dir, {"extract", "payload.bin", "system", "-o",
                                 "made"})["result"]["partitions"][0]["verified"] == true);
}

TEST_CASE("extract: --list writes nothing; another package's folder is refused") {
  const ToolBench bench;
  bench.tools("zip -q a.zip boot.img dtbo.img && zip -q b.zip boot.img");
  const Json list = program_json(bench.dir, {"extract", "a.zip", "--list"});
  CHECK(list["result"]["partitions"][0]["chosen"] == true);
  CHECK_FALSE(fs::exists(bench.dir / "out"));
  CHECK(program(bench.dir, {"extract", "a.zip"}).exit_code == 2);
  CHECK(program(bench.dir, {"extract", "a.zip", "boot", "-o", "out"}).exit_code == 0);
  CHECK(program(bench.dir, {"extract", "a.zip", "dtbo", "-o", "out"}).exit_code == 0);
  const Json manifest = Json::parse(read(bench.dir / "out/extract.json"));
  CHECK(manifest["firmware"] == "a.zip");
  CHECK(manifest["partitions"].size() == 2);
  fs::remove(bench.dir / "out/boot.img");
  const Json error = program_json(bench.dir, {"extract", "b.zip", "boot", "-o", "out"}, 5)["error"];
  CHECK(error["found"] == "a.zip");
  CHECK_FALSE(fs::exists(bench.dir / "out/boot.img"));
  CHECK(program(bench.dir, {"extract", "b.zip", "boot", "-o", "out", "--force"}).exit_code == 0);
}

TEST_CASE("extract: the metadata's signature is verified with the key that openssl made it with") {
  const ToolBench bench;
  PayloadBytes payload;
  payload.partitions.push_back(partition_of("boot", noise(8192), 8));
  // The size of the signature's message stands in what is signed.
  payload.signature = proto_bytes(1, proto_bytes(2, std::string(256, 's')));
  std::string bytes = payload.done();
  const std::size_t at = bytes.find(payload.signature);
  write(bench.dir / "signed", bytes.substr(0, at));
  bench.tools(
      "openssl genrsa -out key.pem 2048 2>/dev/null && openssl rsa -in key.pem -pubout -out "
      "pub.pem 2>/dev/null && "
      "openssl genrsa -out other.pem 2048 2>/dev/null && openssl dgst -sha256 -sign key.pem -out "
      "sig signed");
  bytes.replace(bytes.find(std::string(256, 's')), 256, read(bench.dir / "sig"));
  write(bench.dir / "payload.bin", bytes);
  CHECK(program(bench.dir, {"extract", "payload.bin", "boot", "-o", "out", "--key", "pub.pem"})
            .exit_code == 0);
  CHECK(program(bench.dir, {"inspect", "payload.bin", "--key", "key.pem"}).exit_code == 0);
  CHECK(program(bench.dir, {"keys", "show", "pub.pem", "-o", "pub.bin"}).exit_code == 0);
  CHECK(program(bench.dir, {"inspect", "payload.bin", "--key", "pub.bin"}).exit_code == 0);
  CHECK(program_json(bench.dir, {"inspect", "payload.bin", "--key", "other.pem"},
                     3)["error"]["code"] == "bad-signature");
  CHECK(program(bench.dir, {"inspect", "payload.bin", "--key", "boot.img"}).exit_code == 3);
}
