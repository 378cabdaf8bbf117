/// The walk over a signed set: what it looks at byte by byte, which slot's images it takes, what
/// its digest is over.

#include <algorithm>
#include <map>

#include "support/check.hpp"
#include "support/signed_set.hpp"
#include "support/vbmeta.hpp"

using namespace wexlo;
using namespace wexlo::test;
using verified::Descriptor;

namespace {

/// Whether verified boot looks at a byte of the set, told from the layout alone.
class Protected {
 public:
  explicit Protected(const SignedSet& set) : set_(set) {
    vbmeta_ = size_of(set.images.at("vbmeta"));
    boot_ = *value_of(verified::find_footer(set.images.at("boot")));
    for (const Descriptor& one : set.top.parsed()) {
      if (const auto* hash = std::get_if<verified::HashDescriptor>(&one.value))
        init_boot_ = hash->image_size;
      if (const auto* tree = std::get_if<verified::HashtreeDescriptor>(&one.value))
        system_ = tree->fec_offset + tree->fec_size;
    }
  }

  bool covers(const std::string& partition, std::uint64_t at) const {
    if (partition == "vbmeta") return at < vbmeta_ && !is_loose(at);
    if (partition == "init_boot") return at < init_boot_;
    if (partition == "system") return at < system_;
    if (at < set_.boot_content) return true;
    if (at >= boot_.vbmeta_offset && at < boot_.vbmeta_offset + boot_.vbmeta_size)
      return !is_loose(at - boot_.vbmeta_offset);
    // Of the footer a loader needs magic, major version, and where the struct is.
    const std::uint64_t footer = set_.images.at("boot").size() - 64;
    return (at >= footer && at < footer + 8) || (at >= footer + 20 && at < footer + 36);
  }

 private:
  static std::uint64_t size_of(const Bytes& bytes) {
    const Image image = value_of(verified::parse_vbmeta(Blob(bytes)));
    return image.sections_end();
  }
  /// Padding of the authentication block: behind hash and signature.
  static bool is_loose(std::uint64_t at) { return at >= 256 + 32 + 256 && at < 256 + 320; }

  const SignedSet& set_;
  std::uint64_t vbmeta_ = 0, init_boot_ = 0, system_ = 0;
  verified::Footer boot_;
};

}  // namespace

TEST_CASE("verdicts: every flipped byte is noticed, or lies outside of what is protected") {
  SignedSet set = signed_set();
  const Protected layout(set);
  REQUIRE(set.walk().faults.empty());
  std::size_t tried = 0, inside = 0;
  const auto flip = [&](const std::string& name, std::uint64_t at) {
    std::byte& byte = set.at(name)[at];
    const std::byte before = byte;
    byte ^= static_cast<std::byte>(1u << (tried % 8));
    // Trees are looked at where they can be concerned: that takes most of the time.
    const auto look = name == "system" ? verified::Look::Trees : verified::Look::Hashes;
    const bool noticed = !set.walk(look).faults.empty();
    byte = before;
    ++tried;
    const bool covered = layout.covers(name, at);
    inside += covered ? 1 : 0;
    if (noticed == covered) return;
    // The low byte of the footer's major version 1 may become 0, which is older and read; a larger
    // vbmeta_size that stays inside has more bytes read, and the same struct found in them.
    const std::uint64_t footer_at = set.at("boot").size() - 64;
    const bool version = name == "boot" && at == footer_at + 7;
    const bool longer = name == "boot" && at >= footer_at + 28 && at < footer_at + 36;
    CHECK_MESSAGE(((version || longer) && !noticed),
                  name << " at " << at << ": noticed " << noticed << ", covered " << covered);
  };
  // Structs and footers byte by byte; what lies between, sampled.
  const auto footer = *value_of(verified::find_footer(set.at("boot")));
  for (std::uint64_t at = 0; at < set.at("vbmeta").size(); at += at < 700 ? 1 : 7)
    flip("vbmeta", at);
  for (std::uint64_t i = 0; i < footer.vbmeta_size; i += 2)
    flip("boot", footer.vbmeta_offset + i);
  for (std::uint64_t i = 1; i <= 64; ++i)
    flip("boot", set.at("boot").size() - i);
  for (const char* name : {"boot", "init_boot", "system"})
    for (std::uint64_t at = 11; at < set.at(name).size(); at += set.at(name).size() / 241)
      flip(name, at);
  CHECK(tried >= 2000);
  CHECK(inside >= 1000);
  MESSAGE(tried << " positions, " << inside << " of them protected");
}

TEST_CASE("verdicts: slots") {
  SignedSet set = signed_set();
  std::map<std::string, Bytes> slotted;
  for (auto& [name, bytes] : set.images)
    slotted[name == "system" ? name : name + "_b"] = bytes;
  verified::WalkOptions options{.find = {}, .suffix = "_b", .root_key = {}, .rollback = {}};
  options.find = [&](const std::string& name) -> Result<SourcePtr> {
    const auto at = slotted.find(name);
    return at == slotted.end() ? nullptr : open_memory(Blob(at->second), name);
  };
  const auto walk = value_of(verified::walk_chain(options, {}));
  CHECK(walk.locked_starts());
  CHECK(walk.structs.size() == 2);
  CHECK(walk.structs[1].held_by == "boot_b");
  CHECK(walk.standings.at("init_boot") == verified::Standing::Ok);
  options.suffix = "_a";
  CHECK(value_of(verified::walk_chain(options, {})).structs.empty());
}

TEST_CASE("verdicts: the digest of all structs is over each one's exact bytes") {
  const SignedSet set = signed_set();
  const auto walk = set.walk(verified::Look::Structs);
  const auto footer = *value_of(verified::find_footer(set.images.at("boot")));
  const Image top = value_of(verified::parse_vbmeta(Blob(set.images.at("vbmeta"))));
  Bytes all = to_bytes(View(set.images.at("vbmeta")).first(top.sections_end()));
  append(all, View(set.images.at("boot")).subspan(footer.vbmeta_offset, footer.vbmeta_size));
  CHECK(walk.digest == sha256_hex(all));
  CHECK(walk.digest_size == all.size());
  CHECK(walk.digest_algorithm == "sha256");
}

TEST_CASE(
    "verdicts: a claim without a slot suffix is of the bare partition, others of the slot's") {
  const std::string right = padded(noise(5000, 1), 4096), wrong = padded(noise(5000, 2), 4096);
  for (const bool bare : {false, true})
    for (const bool swapped : {false, true}) {
      CAPTURE(bare);
      CAPTURE(swapped);
      std::string claim = hash_descriptor("blob", right, "salt");
      if (bare) claim.replace(68, 4, be32(1));
      const std::string top = padded(vbmeta(claim), 4096);
      const std::map<std::string, std::string> parts{{"vbmeta", top},
                                                     {"vbmeta_a", top},
                                                     {"blob", bare != swapped ? right : wrong},
                                                     {"blob_a", bare != swapped ? wrong : right},
                                                     {"blob_b", wrong}};
      verified::WalkOptions options{.find = {}, .suffix = "_a", .root_key = {}, .rollback = {}};
      options.find = [&](const std::string& name) -> Result<SourcePtr> {
        const auto at = parts.find(name);
        return at == parts.end() ? nullptr : open_memory(blob(at->second), name);
      };
      const auto walk = value_of(verified::walk_chain(options, {}));
      CHECK((walk.standings.at("blob") == verified::Standing::Ok) == !swapped);
    }
}
