/// Replays files over a target, writes the seeds, or tries all seeds with small changes. With
/// libFuzzer (./run fuzz) its own main is used, and the environment names the target.

#include <cstdio>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <set>
#include <sstream>

#include "target.hpp"

using namespace wexlo;

namespace {

const fuzz::Target* find(std::string_view name) {
  for (const fuzz::Target& target : fuzz::targets())
    if (target.name == name) return &target;
  std::fprintf(stderr, "no such fuzz target: %s\n", std::string(name).c_str());
  return nullptr;
}

#ifndef WEXLO_LIBFUZZER

/// Deterministic small damage: a byte, a word of edge values, a cut, a doubled stretch.
std::string changed(std::string bytes, std::uint32_t round) {
  std::uint32_t state = round * 2654435761u + 12345;
  const auto next = [&state](std::size_t bound) {
    state ^= state << 13;
    state ^= state >> 17;
    state ^= state << 5;
    return bound == 0 ? 0 : state % bound;
  };
  if (bytes.empty()) return bytes;
  static constexpr std::uint32_t kEdges[] = {0,          1,          0x7fffffff, 0x80000000,
                                             0xffffffff, 0xfffffffe, 4096};
  for (std::uint32_t i = 0; i <= round % 3; ++i) {
    const std::size_t at =
        next(round % 2 == 0 ? std::min<std::size_t>(bytes.size(), 128) : bytes.size());
    switch (next(5)) {
      case 0: bytes[at] = static_cast<char>(bytes[at] ^ (1 << next(8))); break;
      case 1: bytes[at] = static_cast<char>(next(256)); break;
      case 2:
        if (at + 4 <= bytes.size()) std::memcpy(bytes.data() + at, &kEdges[next(7)], 4);
        break;
      case 3: bytes.resize(at + 1); break;
      default: bytes.insert(at, bytes.substr(at, next(64)));
    }
  }
  return bytes;
}

std::string content_of(const std::filesystem::path& file) {
  std::ostringstream bytes;
  bytes << std::ifstream(file, std::ios::binary).rdbuf();
  return bytes.str();
}

/// The small inputs of fuzz/seeds that lead where a target's own seeds do not.
std::vector<std::string> kept_seeds(const fuzz::Target& target) {
  std::vector<std::string> out;
  std::set<std::filesystem::path> kept;
  std::error_code none;  // most have some, not all
  for (const auto& entry : std::filesystem::directory_iterator(
           std::filesystem::path(WEXLO_KEPT_SEEDS) / target.name, none))
    kept.insert(entry.path());
  for (const std::filesystem::path& file : kept)
    out.push_back(content_of(file));
  return out;
}

void replay(const fuzz::Target& target, const std::vector<std::string>& seeds,
            std::uint32_t rounds) {
  for (const std::string& seed : seeds) {
    target.run(as_view(seed));
    for (std::uint32_t round = 0; round < rounds; ++round)
      target.run(as_view(changed(seed, round)));
  }
}

int replay_seeds(const std::string& only, std::uint32_t rounds) {
  if (!std::filesystem::is_directory(WEXLO_KEPT_SEEDS)) {
    std::fprintf(stderr, "not found: %s\n", WEXLO_KEPT_SEEDS);
    return 1;
  }
  for (const fuzz::Target& target : fuzz::targets()) {
    if (!only.empty() && only != target.name) continue;
    const auto own = target.seeds(), kept = kept_seeds(target);
    replay(target, own, rounds);
    replay(target, kept, rounds / 4);  // they are changed inputs already
    std::printf("%s: %zu seeds, %u changes of each; %zu kept ones, %u of each\n", target.name,
                own.size(), rounds, kept.size(), rounds / 4);
  }
  return 0;
}

int write_seeds(const std::filesystem::path& folder) {
  for (const fuzz::Target& target : fuzz::targets()) {
    std::filesystem::create_directories(folder / target.name);
    int number = 0;
    for (const auto& seeds : {target.seeds(), kept_seeds(target)})
      for (const std::string& seed : seeds)
        std::ofstream(folder / target.name / ("seed-" + std::to_string(number++)), std::ios::binary)
            << seed;
  }
  return 0;
}

#endif

}  // namespace

#ifdef WEXLO_LIBFUZZER

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static const fuzz::Target* target = [] {
    const char* name = std::getenv("WEXLO_FUZZ_TARGET");
    const fuzz::Target* found = find(name == nullptr ? "" : name);
    if (found == nullptr) std::exit(2);
    return found;
  }();
  target->run(std::as_bytes(std::span(data, size)));
  return 0;
}

#else

int main(int count, char** arguments) {
  const std::vector<std::string> words(arguments + 1, arguments + count);
  if (words.size() == 2 && words[0] == "--write-seeds") return write_seeds(words[1]);
  if (!words.empty() && words[0] == "--seeds")
    return replay_seeds(words.size() > 1 ? words[1] : "",
                        words.size() > 2 ? static_cast<std::uint32_t>(std::stoul(words[2])) : 200);
  if (words.size() < 2) {
    std::puts(
        "wexlo_fuzz TARGET FILE...         replays files over a target\n"
        "wexlo_fuzz --seeds [TARGET [N]]   replays the seeds, each with N small changes\n"
        "wexlo_fuzz --write-seeds FOLDER   writes the seeds for a fuzzer");
    return 2;
  }
  const fuzz::Target* target = find(words[0]);
  if (target == nullptr) return 2;
  for (std::size_t i = 1; i < words.size(); ++i)
    target->run(as_view(content_of(words[i])));
  return 0;
}

#endif
