/// What check, prepare and patch say of a phone's start, and of the way back of a vbmeta.

#include <sstream>

#include "program/verified_bench.hpp"
#include "support/vbmeta.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

TEST_CASE("check: exit codes, options, a repaired copy") {
  const TempDir dir;
  write(dir / "data.bin", noise(400'000, 6));
  (void)judged(dir, {"keys", "new", "k.pem", "--bits", "2048", "-o", "k.bin"}, 0);
  (void)judged(dir, {"keys", "new", "other.pem", "--bits", "2048"}, 0);
  (void)judged(dir,
               {"seal", "system=data.bin", "--partition-size", "1M", "--new-vbmeta", "vbmeta",
                "--rollback", "vbmeta=5", "--key", "k.pem", "-o", "set"},
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
  const Json repaired = check({"--repair", "fixed"}, 1);
  CHECK(repaired["result"]["chain"][0]["covers"][0]["tree"]["first"]["block"] == 9);
  CHECK(repaired["result"]["repaired"][0]["blocks"] == 1);
  CHECK(read(dir / "fixed/system.img") == good);
  CHECK(check({"--no-trees"}, 0)["result"]["locked"] == "starts");
}

TEST_CASE("prepare: with a key the kit starts a locked phone, without one the plan says why not") {
  const TempDir dir;
  fs::copy_file(firmware() / "ota.zip", dir / "ota.zip");
  write(dir / "r.toml",
        "format = 1\nname = \"bench\"\n[[edit]]\nkind = \"property\"\n"
        "set = { \"ro.debuggable\" = \"1\" }\n");
  (void)judged(dir, {"keys", "new", "k.pem", "--bits", "2048", "-o", "k.bin"}, 0);
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

TEST_CASE("check: an image of another tool against its firmware") {
  const TempDir dir;
  fs::copy_file(firmware() / "ota.zip", dir / "ota.zip");
  (void)judged(dir, {"extract", "ota.zip", "-o", "stock"}, 0);
  for (const auto& one :
       wexlo::demo::gnomon_images({.size = wexlo::demo::FirmwareSize::Small, .older = true}))
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
      CHECK(says(Json::parse(ran.out), "warning:restore"));
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
