/// seal, check and keys from the command line, with OpenSSL's program, veritysetup and sha256sum as
/// judges of what they write.

#include <sys/stat.h>

#include <algorithm>
#include <sstream>

#include "program/verified_bench.hpp"
#include "support/boot.hpp"
#include "support/vbmeta.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

/// The struct behind an image's footer.
std::string footer_struct(const std::string& image) {
  const std::string footer = image.substr(image.size() - 64);
  return image.substr(be(footer, 20), be(footer, 28));
}

const Json& descriptor(const Json& item, const std::string& kind) {
  const Json& all = item["image"]["footer"]["vbmeta"]["descriptors"];
  const auto at = std::ranges::find_if(all, [&](const Json& one) { return one["kind"] == kind; });
  REQUIRE(at != all.end());
  return *at;
}

std::string small_boot() {
  return BootBytes{.version = 2,
                   .kernel = arm64_kernel("5.10.1"),
                   .ramdisk = gzip(first_ramdisk()),
                   .dtb = device_tree("Tarn 2", "korvale,vernier")}
      .done();
}

}  // namespace

TEST_CASE("seal: OpenSSL verifies signatures of every algorithm") {
  const TempDir dir;
  write(dir / "boot.img", small_boot());
  for (const std::string bits : {"2048", "4096", "8192"}) {
    CAPTURE(bits);
    const std::string key = "key" + bits + ".pem", pub = "pub" + bits + ".pem";
    // The longest take a minute to make: that one is here.
    const bool longest = bits == "8192";
    if (longest) write(dir / key, read(source_folder() + "/tests/data/rsa8192.pem"));
    if (longest) fs::permissions(dir / key, fs::perms(0600));
    const Json made = longest ? judged(dir, {"keys", "show", key}, 0)
                              : judged(dir, {"keys", "new", key, "--bits", bits}, 0);
    CHECK(made["result"]["bits"] == std::stoi(bits));
    struct stat info {};
    REQUIRE(::stat((dir / key).c_str(), &info) == 0);
    CHECK((info.st_mode & 0777) == 0600);
    (void)judged(dir, {"keys", "show", key, "--pem", pub}, 0);
    for (const std::string digest : {"sha256", "sha512"}) {
      const std::string out = "out" + bits + digest;
      const Json sealed = judged(dir,
                                 {"seal", "boot.img", "--partition-size", "1M", "--key", key,
                                  "--sign-digest", digest, "--new-vbmeta", "vbmeta", "-o", out},
                                 0);
      CHECK(sealed["result"]["images"][1]["algorithm"] == digest + "-rsa" + bits);
      CHECK(openssl_agrees(dir, read(dir / out / "vbmeta.img"), pub, digest));
      const Json checked = judged(dir, {"check", out, "--key", pub}, 0);
      CHECK(checked["result"]["locked"] == "starts");
      CHECK(checked["result"]["root_key"] == "given");
    }
  }
  // The key never shows.
  const Ran ran = program(dir, {"--verbose", "keys", "show", "key2048.pem"});
  CHECK_FALSE((ran.out + ran.err).contains("PRIVATE"));
}

TEST_CASE("seal: sha256sum agrees with digests, veritysetup with hash trees") {
  const TempDir dir;
  write(dir / "boot.img", small_boot());
  write(dir / "data.bin", noise(3'000'000, 5));
  (void)judged(dir, {"seal", "boot.img", "--partition-size", "1M", "--salt", "00ff10", "-o", "out"},
               0);
  const Json boot = judged(dir, {"inspect", "out/boot.img"}, 0)["result"]["items"][0];
  const Json hash = descriptor(boot, "hash");
  const std::string size = hash["image_size"].get<std::string>();
  const Ran sum = shell("(printf '\\000\\377\\020'; head -c " + size + " out/boot.img) | sha256sum",
                        dir.path().string());
  CHECK(sum.out.substr(0, 64) == hash["digest"].get<std::string>());

  for (const std::string digest : {"sha1", "sha256", "sha512"}) {
    CAPTURE(digest);
    const std::string out = "tree-" + digest;
    (void)judged(dir,
                 {"seal", "system=data.bin", "--partition-size", "4M", "--digest", digest, "--salt",
                  "a1b2c3d4", "-o", out},
                 0);
    const std::string image = read(dir / out / "system.img");
    CHECK(image.substr(0, 3'000'000) == read(dir / "data.bin"));
    // The descriptor's own bytes, read by hand.
    const std::string tree = footer_struct(image);
    const std::size_t at = tree.find(digest, 256) - 72;
    const std::uint64_t covered = be(tree, at + 20), offset = be(tree, at + 28);
    CHECK(covered == 3'002'368);
    const std::size_t root_size = digest == "sha1" ? 20 : digest == "sha256" ? 32 : 64;
    const std::string root = tree.substr(at + 180 + 6 + 4, root_size);
    const std::vector<std::string> verify{"veritysetup",
                                          "verify",
                                          "system.img",
                                          "system.img",
                                          hex_of(root),
                                          "--no-superblock",
                                          "--hash",
                                          digest,
                                          "--salt",
                                          "a1b2c3d4",
                                          "--data-blocks",
                                          std::to_string(covered / 4096),
                                          "--hash-offset",
                                          std::to_string(offset),
                                          "--data-block-size",
                                          "4096",
                                          "--hash-block-size",
                                          "4096"};
    const Ran good = run(verify, (dir / out).string());
    CAPTURE(good.err);
    CHECK(good.exit_code == 0);
    std::string bad = image;
    bad[77'777] = static_cast<char>(bad[77'777] ^ 1);
    write(dir / out / "system.img", bad);
    CHECK(run(verify, (dir / out).string()).exit_code != 0);
  }
}

TEST_CASE("seal: a program signs for a key that it keeps") {
  const TempDir dir;
  write(dir / "boot.img", small_boot());
  (void)judged(dir, {"keys", "new", "token.pem", "--bits", "2048", "-o", "token.bin"}, 0);
  (void)judged(dir, {"keys", "new", "other.pem", "--bits", "2048"}, 0);
  const auto script = [&](const std::string& name, const std::string& body) {
    write(dir / name, "#!/bin/sh\n" + body);
    fs::permissions(dir / name, fs::perms::owner_all);
    return (dir / name).string();
  };
  const auto seal = [&](const std::string& signer, int wanted) {
    return judged(dir,
                  {"seal", "boot.img", "--partition-size", "1M", "--key", "token.bin", "--signer",
                   signer, "-o", "out"},
                  wanted);
  };
  // With general tools alone: the digest out of the request, the signature into the answer.
  const auto sign = [](const std::string& key) {
    return "sed -n 's/^digest = \"\\(.*\\)\"/\\1/p' \"$1\" | xxd -r -p | openssl pkeyutl -sign "
           "-pkeyopt digest:sha256 -inkey " +
           key + " -out \"$2\"\n";
  };
  const Json wrong = seal(script("wrong", sign("other.pem")), 3);
  CHECK(wrong["error"]["code"] == "bad-signature");
  CHECK(seal(script("fails", "echo no token >&2\nexit 7\n"), 5)["error"]["found"] == "exit code 7");
  CHECK(seal(script("chatty", "yes | head -c 100000 > \"$2\"\n"), 5)["error"]["code"] == "io");
  CHECK(seal(script("silent", "exit 0\n"), 5)["error"]["found"] == "no answer file");
  CHECK(seal((dir / "nobody").string(), 5)["error"]["code"] == "not-found");
  CHECK_FALSE(fs::exists(dir / "out"));
  // What it says is no part of the reply.
  (void)seal(script("right", "cp \"$1\" asked\necho hello\nls -ld \"$(dirname \"$1\")\" > mode\n" +
                                 sign("token.pem")),
             0);
  CHECK(read(dir / "asked").contains("algorithm = \"sha256-rsa2048\"\n"));
  CHECK(read(dir / "asked").contains("key_sha256 = \"" + hex_of(sha256(read(dir / "token.bin")))));
  CHECK(read(dir / "mode").starts_with("drwx------"));
  (void)judged(dir, {"keys", "show", "token.bin", "--pem", "token.pub"}, 0);
  CHECK(openssl_agrees(dir, footer_struct(read(dir / "out/boot.img")), "token.pub", "sha256"));
  // A key that others can read is used, and told.
  fs::permissions(dir / "other.pem", fs::perms(0644));
  CHECK(says(judged(dir, {"seal", "out/boot.img", "--key", "other.pem", "-o", "out2"}, 0),
             "warning:key-readable"));
}

TEST_CASE("seal and keys: each mistake has its exit code, and nothing is written") {
  const TempDir dir;
  write(dir / "boot.img", small_boot());
  write(dir / "junk.img", noise(5000));
  write(dir / "text", "no key\n");
  (void)judged(dir, {"keys", "new", "k.pem", "--bits", "2048"}, 0);
  struct Row {
    std::vector<std::string> words;
    int exit_code;
    const char* code;
  };
  const std::string size = "--partition-size";
  for (const Row& row : std::vector<Row>{
           {{"seal", "boot.img"}, 2, "usage"},
           {{"seal", "junk.img", size, "1M"}, 2, "usage"},
           {{"seal", "boot.img", size, "8K"}, 1, "does-not-fit"},
           {{"seal", "boot.img", size, "0"}, 2, "usage"},
           {{"seal", "boot.img", size, "dtbo=1M"}, 2, "usage"},
           {{"seal", "boot.img", "boot.img", size, "1M"}, 2, "usage"},
           {{"seal", "boot.img", size, "1M", "--salt", "xyz"}, 2, "usage"},
           {{"seal", "boot.img", size, "1M", "--fec", "1"}, 2, "usage"},
           {{"seal", "boot.img", size, "1M", "--rollback", "x"}, 2, "usage"},
           {{"seal", "boot.img", size, "1M", "--flag", "off"}, 2, "usage"},
           {{"seal", "boot.img", size, "1M", "--property", "x"}, 2, "usage"},
           {{"seal", "boot.img", size, "1M", "--chain", "a@99=k.pem"}, 2, "usage"},
           {{"seal", "boot.img", size, "1M", "--chain", "a:2:k.pem"}, 2, "usage"},
           {{"seal", "boot.img", size, "1M", "--chain", "@2=k.pem"}, 2, "usage"},
           {{"seal", "boot.img", size, "1M", "--chain", "a@2x=k.pem"}, 2, "usage"},
           {{"seal", "boot.img", size, "1M", "--new-vbmeta", "other"}, 2, "usage"},
           {{"seal", "boot.img", size, "1M", "--key", "text"}, 3, "bad-value"},
           {{"seal", "boot.img", size, "1M", "--key", "gone"}, 5, "not-found"},
           {{"seal", "boot.img", size, "1M", "--signer", "true"}, 2, "usage"},
           {{"seal", "boot.img", size, "1M", "--older-signature", "remake"}, 2, "usage"},
           {{"seal", "gone.img", size, "1M"}, 5, "not-found"},
           {{"seal", "../x=boot.img", size, "1M"}, 3, "unsafe-path"},
       }) {
    auto words = row.words;
    words.insert(words.end(), {"-o", "out"});
    CAPTURE(words[1]);
    CAPTURE(words[words.size() - 3]);
    CHECK(judged(dir, words, row.exit_code)["error"]["code"] == row.code);
    CHECK_FALSE(fs::exists(dir / "out"));
  }
  CHECK(judged(dir, {"keys", "show", "text"}, 3)["error"]["code"] == "bad-value");
  CHECK(judged(dir, {"keys", "new", "k.pem"}, 5)["error"]["code"] == "exists");
  CHECK(judged(dir, {"keys", "burn", "k.pem"}, 2)["error"]["code"] == "usage");
  // The second of two fails: the first is not there either.
  write(dir / "dtbo.img", TableBytes{.blobs = {device_tree("x", "y")}}.done());
  (void)judged(dir, {"seal", "boot.img", "dtbo.img", size, "boot=1M", size, "dtbo=8K", "-o", "out"},
               1);
  CHECK_FALSE(fs::exists(dir / "out"));
  (void)judged(dir, {"seal", "boot.img", size, "1M", "-o", "out"}, 0);
  CHECK(judged(dir, {"seal", "boot.img", size, "1M", "-o", "out"}, 5)["error"]["code"] == "exists");
  (void)judged(dir, {"seal", "boot.img", size, "1M", "-o", "out", "--force"}, 0);
}

TEST_CASE("seal: the older signature is kept, taken out, made again, and it is said which") {
  const TempDir dir;
  const std::string image = small_boot() + std::string(4096, '\0');
  write(dir / "boot.img", image);
  (void)judged(dir, {"keys", "new", "k.pem", "--bits", "2048"}, 0);
  const auto seal = [&](const std::string& from, const std::string& to, const std::string& how) {
    std::vector<std::string> words{"seal", from, "-o", to, "--older-signature", how};
    if (how == "remake") words.insert(words.end(), {"--older-key", "k.pem"});
    if (how == "keep") words.insert(words.end(), {"--partition-size", "1M"});
    return judged(dir, words, 0);
  };
  const Json made = seal("boot.img", "made", "remake");
  CHECK(made["result"]["images"][0]["done"][0] == "older signature made again for /boot");
  const std::string with = read(dir / "made/boot.img");
  CHECK(with.size() == image.size());
  CHECK(with.substr(0, small_boot().size()) == small_boot());
  CHECK(seal("made/boot.img", "kept", "keep")["result"]["images"][0]["done"].dump().contains(
      "kept, and valid"));
  std::string spoilt = with;
  spoilt[3000] = static_cast<char>(spoilt[3000] ^ 1);
  write(dir / "spoilt/boot.img", spoilt);
  CHECK(says(seal("spoilt/boot.img", "stale", "keep"), "warning:older-signature"));
  CHECK(says(judged(dir, {"check", "spoilt/boot.img"}, 0), "warning:older-signature"));
  (void)seal("made/boot.img", "stripped", "strip");
  CHECK(read(dir / "stripped/boot.img") == image);
}

TEST_CASE("seal: bytes behind a vbmeta struct are kept, or it is refused") {
  const TempDir dir;
  REQUIRE(program(dir, {"keys", "new", "k.pem", "--bits", "2048"}).exit_code == 0);
  const std::string structure = vbmeta(property_descriptor("a", "b"));
  for (const std::size_t at : {std::size_t{4096}, std::size_t{65536 - 64}}) {
    CAPTURE(at);
    std::string image = structure;
    image.resize(65536);
    image.replace(at, 20, "the maker's own note");
    write(dir / "vbmeta.img", image);
    const Ran ran = program(
        dir, {"seal", "vbmeta=vbmeta.img", "--key", "k.pem", "-o", "out", "--force", "--json"});
    CAPTURE(ran.out);
    if (ran.exit_code == 0)
      CHECK(read(dir / "out/vbmeta.img").substr(at, 20) == "the maker's own note");
    else
      CHECK_FALSE(fs::exists(dir / "out"));
    CHECK(ran.exit_code < 6);
    fs::remove_all(dir / "out");
  }
}
