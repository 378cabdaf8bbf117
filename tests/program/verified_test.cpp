/// seal, check and keys from the command line, with OpenSSL's program, veritysetup and sha256sum as
/// judges of what they write.

#include <sys/stat.h>

#include <algorithm>
#include <sstream>

#include "demo/gnomon.hpp"
#include "program/support.hpp"
#include "support/boot.hpp"
#include "support/vbmeta.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

/// With --json; an exit code 1 may come with a result: findings are no error.
Json judged(const TempDir& folder, std::vector<std::string> arguments, int wanted) {
  arguments.emplace_back("--json");
  const Ran ran = program(folder, std::move(arguments));
  CAPTURE(ran.out);
  CAPTURE(ran.err);
  CHECK(ran.exit_code == wanted);
  const Json document = Json::parse(ran.out);
  CHECK(document["ok"] == (wanted == 0));
  return document;
}

bool has(const Json& document, const std::string& code, const std::string& level = {}) {
  return std::ranges::any_of(document["findings"], [&](const Json& one) {
    return one["code"] == code && (level.empty() || one["level"] == level);
  });
}

std::uint64_t be(const std::string& bytes, std::size_t at) {
  std::uint64_t out = 0;
  for (std::size_t i = 0; i < 8; ++i)
    out = out << 8 | static_cast<unsigned char>(bytes[at + i]);
  return out;
}

/// OpenSSL's program on a struct: the signature over header and auxiliary block.
bool openssl_agrees(const TempDir& dir, const std::string& structure, const std::string& pem,
                    const std::string& digest) {
  const std::uint64_t authentication = be(structure, 12), auxiliary = be(structure, 20);
  write(dir / "message",
        structure.substr(0, 256) + structure.substr(256 + authentication, auxiliary));
  write(dir / "signature", structure.substr(256 + be(structure, 48), be(structure, 56)));
  const Ran ran =
      run({"openssl", "dgst", "-" + digest, "-verify", pem, "-signature", "signature", "message"},
          dir.path().string());
  return ran.exit_code == 0 && ran.out.contains("Verified OK");
}

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

/// The invented phone's package, made once.
const TempDir& firmware() {
  static const TempDir dir;
  static const bool made =
      wexlo::demo::write_gnomon(dir / "ota.zip", {.system_mib = 4}, {.jobs = 2}).has_value();
  REQUIRE(made);
  return dir;
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
    // The longest take a minute to make: that one is at hand.
    const bool longest = bits == "8192";
    if (longest) write(dir / key, read(WEXLO_LONG_KEY));
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
  const std::string sign = "exec openssl pkeyutl -sign -pkeyopt digest:sha256 -inkey ";
  const Json wrong = seal(script("wrong", sign + "other.pem\n"), 3);
  CHECK(wrong["error"]["code"] == "bad-signature");
  CHECK(seal(script("fails", "echo no token >&2\nexit 7\n"), 5)["error"]["found"] == "exit code 7");
  CHECK(seal(script("chatty", "yes | head -c 100000\n"), 5)["error"]["code"] == "io");
  CHECK(seal((dir / "nobody").string(), 5)["error"]["code"] == "not-found");
  CHECK_FALSE(fs::exists(dir / "out"));
  (void)seal(script("right", "echo \"$1\" > asked\n" + sign + "token.pem\n"), 0);
  CHECK(read(dir / "asked") == "sha256-rsa2048\n");
  (void)judged(dir, {"keys", "show", "token.bin", "--pem", "token.pub"}, 0);
  CHECK(openssl_agrees(dir, footer_struct(read(dir / "out/boot.img")), "token.pub", "sha256"));
  // A key that others can read is used, and told.
  fs::permissions(dir / "other.pem", fs::perms(0644));
  CHECK(has(judged(dir, {"seal", "out/boot.img", "--key", "other.pem", "-o", "out2"}, 0),
            "key-readable", "warning"));
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
           {{"seal", "boot.img", size, "1M", "--chain", "a:99:k.pem"}, 2, "usage"},
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
      "kept, and true"));
  std::string spoilt = with;
  spoilt[3000] = static_cast<char>(spoilt[3000] ^ 1);
  write(dir / "spoilt/boot.img", spoilt);
  CHECK(has(seal("spoilt/boot.img", "stale", "keep"), "older-signature", "warning"));
  CHECK(has(judged(dir, {"check", "spoilt/boot.img"}, 0), "older-signature", "warning"));
  (void)seal("made/boot.img", "stripped", "strip");
  CHECK(read(dir / "stripped/boot.img") == image);
}

TEST_CASE("check: exit codes, options, a mended copy") {
  const TempDir dir;
  write(dir / "data.bin", noise(400'000, 6));
  (void)judged(dir, {"keys", "new", "k.pem", "--bits", "2048", "-o", "k.bin"}, 0);
  (void)judged(dir, {"keys", "new", "other.pem", "--bits", "2048"}, 0);
  (void)judged(dir,
               {"seal", "system=data.bin", "--partition-size", "1M", "--new-vbmeta", "vbmeta",
                "--rollback", "vbmeta:5", "--key", "k.pem", "-o", "set"},
               0);
  const auto check = [&](std::vector<std::string> more, int wanted) {
    more.insert(more.begin(), {"check", "set"});
    return judged(dir, more, wanted);
  };
  Json sound = check({"--key", "k.bin"}, 0);
  CHECK(sound["result"]["locked"] == "starts");
  CHECK(sound["result"]["partitions"][0]["name"] == "system");
  CHECK(sound["result"]["partitions"][0]["status"] == "ok");
  CHECK(check({"--key", "other.pem"}, 1)["result"]["partitions"][1]["status"] == "wrong-key");
  CHECK(check({"--key", "other.pem", "--lock-state", "unlocked"}, 0)["result"]["unlocked"] ==
        "starts");
  CHECK(check({"--rollback", "0=5"}, 0)["result"]["locked"] == "starts");
  CHECK(check({"--rollback", "0=6"}, 1)["result"]["locked"] == "refuses");
  for (const char* odd : {"5", "x=1", "0=", "32=1", "0=x", "=5"})
    CHECK(check({"--rollback", odd}, 2)["error"]["code"] == "usage");
  CHECK(check({"--key", "data.bin"}, 3)["error"]["code"] == "bad-value");
  CHECK(check({"--against", "gone"}, 5)["error"]["code"] == "not-found");
  CHECK(judged(dir, {"check", "gone.img"}, 5)["error"]["code"] == "not-found");
  CHECK(judged(dir, {"check", "k.bin"}, 3)["error"]["code"] == "bad-magic");
  CHECK(check({"--repair", "fixed"}, 1)["error"]["code"] == "no-match");

  const std::string good = read(dir / "set/system.img");
  std::string bad = good;
  bad[40'000] = static_cast<char>(bad[40'000] ^ 0x40);
  write(dir / "set/system.img", bad);
  const Json mended = check({"--repair", "fixed"}, 1);
  CHECK(mended["result"]["chain"][0]["vouches_for"][0]["tree"]["first"]["block"] == 9);
  CHECK(mended["result"]["mended"][0]["blocks"] == 1);
  CHECK(read(dir / "fixed/system.img") == good);
  CHECK(check({"--no-trees"}, 0)["result"]["locked"] == "starts");
}

TEST_CASE("prepare: with a key the kit starts a locked phone, without one the plan says why not") {
  const TempDir dir;
  fs::copy_file(firmware() / "ota.zip", dir / "ota.zip");
  write(dir / "r.toml",
        "format = 1\nname = \"bench\"\n[[edit]]\nkind = \"property\"\n"
        "set = { \"ro.debuggable\" = \"1\" }\n");
  (void)judged(dir, {"keys", "new", "k.pem", "--bits", "4096", "-o", "k.bin"}, 0);
  const Json plain = judged(dir, {"prepare", "ota.zip", "-r", "r.toml", "-o", "plain"}, 0);
  CHECK(plain["result"]["verification"]["needs"] == "unlocked");
  CHECK(read(dir / "plain/plan.toml").contains("[verification]\nneeds = \"unlocked\""));
  CHECK_FALSE(fs::exists(dir / "plain/key"));
  // Only what has to change: vbmeta is left as it is.
  CHECK_FALSE(fs::exists(dir / "plain/flash/vbmeta.img"));
  const Json over = judged(dir, {"check", "plain", "--against", "ota.zip"}, 0);
  CHECK(over["result"]["locked"] == "refuses");
  CHECK(over["result"]["unlocked"] == "starts");
  CHECK(over["result"]["against"][0]["verdict"] == "journaled");
  CHECK(over["result"]["against"][0]["build"] == "same");
  CHECK(over["result"]["against"][0]["lowered"].dump().contains("ro.debuggable=1"));

  const Json own =
      judged(dir, {"prepare", "ota.zip", "-r", "r.toml", "--key", "k.pem", "-o", "own"}, 0);
  CHECK(own["result"]["verification"]["needs"] == "own-key");
  CHECK(own["result"]["verification"]["locked"] == "starts");
  CHECK(read(dir / "own/key/root-key.bin") == read(dir / "k.bin"));
  CHECK(fs::exists(dir / "own/flash/vbmeta.img"));
  CHECK_FALSE(fs::exists(dir / "own/flash/boot.img"));
  CHECK_FALSE(read(dir / "own/kit.json").contains("PRIVATE"));
  const Json locked = judged(dir, {"check", "own", "--against", "ota.zip", "--key", "k.bin"}, 0);
  CHECK(locked["result"]["locked"] == "starts");
  (void)judged(dir, {"keys", "show", "k.pem", "--pem", "k.pub"}, 0);
  CHECK(openssl_agrees(dir, read(dir / "own/flash/vbmeta.img"), "k.pub", "sha256"));
  // The way back is as it was: from the image alone.
  (void)judged(dir, {"restore", "own/flash/init_boot.img", "-o", "back.img"}, 0);
  CHECK(read(dir / "back.img") == read(dir / "own/stock/init_boot.img"));

  // A kit is whole, or it is told what is not.
  (void)judged(dir, {"check", "own"}, 0);
  std::string plan = read(dir / "own/plan.toml");
  plan += "# touched\n";
  write(dir / "own/plan.toml", plan);
  fs::remove(dir / "own/stock/vbmeta.img");
  const Json touched = judged(dir, {"check", "own"}, 1);
  CHECK(std::ranges::count_if(touched["findings"],
                              [](const Json& one) { return one["code"] == "kit-file"; }) == 2);
}

TEST_CASE("check: an image of another hand against its firmware") {
  const TempDir dir;
  fs::copy_file(firmware() / "ota.zip", dir / "ota.zip");
  (void)judged(dir, {"extract", "ota.zip", "-o", "stock"}, 0);
  for (const auto& one : wexlo::demo::gnomon_images({.system_mib = 4, .older = true}))
    if (one.name == "init_boot") write(dir / "old/init_boot.img", text(one.image));
  const auto verdict = [&](const std::string& image, int wanted) {
    return judged(dir, {"check", image, "--against", "ota.zip"}, wanted)["result"]["against"][0];
  };
  for (const char* sound : {"stock", "ota.zip", "stock/boot.img", "stock/vbmeta.img"}) {
    const Json checked = judged(dir, {"check", sound}, 0);
    CHECK_FALSE(checked["findings"].dump().contains("problem"));
    // An image alone says nothing of the vbmeta that a locked phone starts from.
    CHECK(checked["result"]["locked"] ==
          (std::string(sound) == "stock/boot.img" ? "cannot-tell" : "starts"));
  }
  const Json drawn = judged(dir, {"inspect", "ota.zip"}, 0)["result"]["items"][0]["chain"];
  CHECK(drawn[0]["signature"] == "holds");
  CHECK(drawn[1]["chained_by"] == "vbmeta");
  CHECK(verdict("stock/init_boot.img", 0)["verdict"] == "stock");
  const Json other = verdict("old/init_boot.img", 1);
  CHECK(other["verdict"] == "other-build");
  CHECK(other["build"] == "other");
  // Somebody else's patch: unpacked, changed, packed again.
  (void)judged(dir, {"unpack", "stock/vendor_boot.img", "-o", "parts"}, 0);
  fs::path fstab, tree;
  for (const auto& one : fs::recursive_directory_iterator(dir / "parts"))
    if (one.path().filename() == "fstab.gnomon") fstab = one.path();
  std::string text = read(fstab);
  const std::size_t at = text.find(",avb=vbmeta_system");
  REQUIRE(at != std::string::npos);
  write(fstab, text.erase(at, 18));
  write(fstab.parent_path() / "helper", std::string("\x7f"
                                                    "ELF") +
                                            noise(500));
  (void)judged(dir, {"repack", "parts", "-o", "patched.img"}, 0);
  const Json patched = verdict("patched.img", 1);
  CHECK(patched["verdict"] == "patched");
  CHECK(patched["build"] == "same");
  CHECK(patched["lowered"][0] == "/system is mounted without verification.");
  REQUIRE(patched["unexplained"].size() == 1);
  CHECK(patched["unexplained"][0].get<std::string>().contains("helper is new"));
}

TEST_CASE("prepare: images that were given along are judged with the set that is written") {
  const TempDir dir;
  fs::copy_file(firmware() / "ota.zip", dir / "ota.zip");
  std::string other(4u << 20, '\0');
  other.replace(1080, 2, "\x53\xef");
  write(dir / "system.img", other);
  REQUIRE(program(dir, {"keys", "new", "k.pem", "--bits", "2048"}).exit_code == 0);
  for (const bool key : {false, true}) {
    CAPTURE(key);
    std::vector<std::string> words{"prepare", "ota.zip", "--stock", "--with", "system=system.img",
                                   "--wipe",  "-o",      "kit",     "--force"};
    if (key) words.insert(words.end(), {"--key", "k.pem"});
    // Whatever is found is accepted: the verdict stays what it is.
    Json said;
    for (int round = 0; round < 5; ++round) {
      auto call = words;
      call.emplace_back("--json");
      said = Json::parse(program(dir, call).out);
      if (said["ok"] == true) break;
      CAPTURE(said["error"].dump());
      REQUIRE(said["error"]["code"] == "does-not-fit");
      std::istringstream codes(said["error"]["found"].get<std::string>());
      for (std::string code; codes >> code;)
        words.insert(words.end(), {"--accept", code.substr(0, code.find(','))});
    }
    REQUIRE(said["ok"] == true);
    CHECK(said["result"]["verification"]["locked"] == "refuses");
    const Json kit = Json::parse(read(dir / "kit/kit.json"));
    CHECK(kit["verification"]["locked"] == "refuses");
    CHECK(kit["verification"]["needs"] == "unlocked");
    const std::string plan = read(dir / "kit/plan.toml");
    CHECK(plan.find("relock") == plan.npos);
    CHECK(plan.find("do = \"lock\"") == plan.npos);
  }
}

TEST_CASE("patch: a vbmeta's way back is claimed only where restore gives the very bytes") {
  const TempDir dir;
  fs::copy_file(firmware() / "ota.zip", dir / "ota.zip");
  REQUIRE(program(dir, {"extract", "ota.zip", "vbmeta", "-o", "images"}).exit_code == 0);
  const std::string stock = read(dir / "images/vbmeta.img");
  // Flags stand at 120 to 123, big-endian; a property of the struct stands behind the blocks.
  const auto with = [&](std::size_t at, char value) {
    std::string out = stock;
    out[at] = value;
    return out;
  };
  const auto set = [](unsigned flags) { return vbmeta(property_descriptor("a", "b"), flags); };
  write(dir / "flags.toml",
        "format = 1\nname = \"f\"\n[[edit]]\nkind = \"vbmeta-flags\"\nset = "
        "[\"verification-disabled\", \"hashtree-disabled\"]\n");
  std::size_t claimed = 0, refused = 0, as_signed = 0;
  for (const std::string& before : {stock, with(123, 2), with(123, 1), with(119, 1), with(300, 'x'),
                                    padded(set(0), 4096), padded(set(2), 4096)}) {
    write(dir / "vbmeta.img", before);
    const Json done = program_json(
        dir, {"patch", "vbmeta.img", "-r", "flags.toml", "-o", "patched.img", "--force"});
    const bool in_image = done["result"]["way_back"]["in_image"];
    CHECK_FALSE(done["result"]["way_back"]["reason"].get<std::string>().empty());
    const Ran ran = program(dir, {"restore", "patched.img", "-o", "back.img", "--force", "--json"});
    CAPTURE(ran.out);
    if (in_image) {
      REQUIRE(ran.exit_code == 0);
      CHECK(read(dir / "back.img") == before);
      ++claimed;
    } else if (ran.exit_code == 0) {
      // What its signer signed is given, and that it may be another image than before is said.
      CHECK(has(Json::parse(ran.out), "restore", "warning"));
      CHECK(Json::parse(ran.out)["result"]["from"] == "signature");
      CHECK(read(dir / "back.img") == stock);
      ++as_signed;
    } else {
      CHECK(ran.exit_code == 1);
      ++refused;
    }
    fs::remove(dir / "back.img");
  }
  CHECK(claimed > 0);
  CHECK(refused > 1);
  CHECK(as_signed > 0);
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
