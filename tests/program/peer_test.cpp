/// Both ends of the protocol against an independent peer (tests/peer/peer.py): exchanges byte by
/// byte.

#include "program/bench.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

std::string peer() {
  return "python3 " + (fs::path(source_folder()) / "tests/peer/peer.py").string();
}

std::string phone_program() {
  return (fs::path(built_program()).parent_path() / "wexlo-phone").string();
}

/// What a phone of the bench's kit answers.
std::string facts() {
  Json out;
  out["variables"] = {{"product", "gnomon"},
                      {"serialno", "PEER7"},
                      {"unlocked", "yes"},
                      {"current-slot", "a"},
                      {"snapshot-update-status", "none"},
                      {"max-download-size", "0x10000000"}};
  return out.dump();
}

/// The lines of a log that are requests, with what was asked besides taken out.
std::vector<std::string> orders(const std::string& log) {
  std::vector<std::string> out;
  std::istringstream lines(log);
  for (std::string line; std::getline(lines, line);)
    if (line.starts_with("> ") && !line.starts_with("> getvar:")) out.push_back(line.substr(2));
  return out;
}

/// The requests of plan.messages, with the digest of each file that is sent.
std::vector<std::string> planned(const fs::path& kit) {
  std::vector<std::string> out;
  std::istringstream lines(read(kit / "plan.messages"));
  for (std::string line; std::getline(lines, line);) {
    if (line.starts_with('#') || line.starts_with("getvar:")) continue;
    const auto tab = line.find('\t');
    out.push_back(line.substr(0, tab));
    if (tab == line.npos) continue;
    const std::string bytes = read(kit / line.substr(tab + 1));
    out.push_back("data " + std::to_string(bytes.size()) + " " + hex_of(sha256(bytes)));
  }
  return out;
}

/// A shell's lines with a peer as the phone: `$PORT` is where it listens.
Ran with_peer(const TempDir& dir, const std::string& wire, const std::string& lines) {
  return shell("rm -f peer.log port; " + peer() + " server " + wire + " '" + facts() +
                   "' peer.log > port & PID=$!; for i in $(seq 100); do [ -s port ] && break; "
                   "sleep 0.1; done; PORT=$(cat port); " +
                   lines + "; CODE=$?; kill $PID; exit $CODE",
               dir.path().string());
}

}  // namespace

TEST_CASE("peer: flash writes what plan.messages says, in its order, to an independent phone") {
  const Bench bench;
  REQUIRE(bench.prepare({"-r", "r.toml"})["ok"] == true);
  for (const std::string wire : {"tcp", "udp"}) {
    CAPTURE(wire);
    fs::remove(bench.dir / "kit/flash-log.jsonl");
    const Ran ran = with_peer(bench.dir, wire,
                              std::string(built_program()) +
                                  " flash kit --hands-done --json "
                                  "--phone fastboot+" +
                                  wire + "://127.0.0.1:$PORT");
    CAPTURE(ran.out);
    CAPTURE(ran.err);
    REQUIRE(ran.exit_code == 0);
    const Json result = Json::parse(ran.out)["result"];
    CHECK(result["state"] == "done");
    CHECK(result["serial"] == "PEER7");
    auto wanted = planned(bench.dir / "kit");
    // It is at its bootloader already: no command brings it there.
    std::erase(wanted, "reboot-bootloader");
    // Bare names mean the slot that the phone starts from: flash says which.
    std::vector<std::string> done = orders(read(bench.dir / "peer.log"));
    for (std::string& one : done)
      if (one.starts_with("flash:") && one.ends_with("_a")) one.resize(one.size() - 2);
    for (std::string& one : wanted)
      if (one.starts_with("flash:") && one.ends_with("_a")) one.resize(one.size() - 2);
    CHECK(done == wanted);
    for (const Json& step : result["steps"])
      if (step["id"].get<std::string>().starts_with("write-")) CHECK(step["outcome"] == "accepted");
  }
}

TEST_CASE("peer: an independent host writes to wexlo-phone and reads back, over either wire") {
  const TempDir dir;
  const std::string bytes = noise(300000, 4);
  write(dir / "image", bytes);
  write(dir / "sheet.toml",
        "[phone]\ncodename = \"gnomon\"\n[state]\nlock = \"unlocked\"\nslots = \"2\"\n"
        "[partitions]\nboot_a = 1048576\nboot_b = 1048576\n");
  const std::string data = "data 300000 " + hex_of(sha256(bytes));
  for (const std::string wire : {"tcp", "udp"}) {
    CAPTURE(wire);
    const Ran ran = shell(
        "rm -rf phone port; " + phone_program() + " phone --model sheet.toml --listen " + wire +
            ":0 > port < /dev/null & PID=$!; for i in $(seq 100); do [ -s port ] && break; sleep "
            "0.1; "
            "done; PORT=$(sed 's/.*://' port); " +
            peer() + " client " + wire +
            " $PORT getvar:product getvar:nothing =image flash:boot_b upload flash:engine "
            "fetch:boot_b reboot-fastboot; kill $PID; cmp -n 300000 image phone/boot_b.img",
        dir.path().string());
    CAPTURE(ran.err);
    CHECK(ran.out ==
          "> getvar:product\n< OKAYgnomon\n> getvar:nothing\n< FAILunknown variable\n"
          "> download:000493e0\n< DATA000493e0\n> " +
              data +
              "\n< OKAY\n"
              "> flash:boot_b\n< OKAY\n> upload\n< DATA000493e0\n< " +
              data +
              "\n< OKAY\n"
              "> flash:engine\n< FAILthere is no engine\n"
              "> fetch:boot_b\n< FAILunknown command\n"
              "> reboot-fastboot\n< FAILunknown command\n");
    CHECK(ran.exit_code == 0);
  }
}
