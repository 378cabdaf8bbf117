/// The chain of verified boot, and the rules that judge images.

#include "image/boot.hpp"
#include "judge/subject.hpp"
#include "seal/seal_image.hpp"
#include "support/boot.hpp"
#include "support/vbmeta.hpp"
#include "target.hpp"
#include "verified/chain.hpp"
#include "verified/key.hpp"
#include "verified/older_signature.hpp"

namespace wexlo::fuzz {
namespace {

constexpr std::size_t kTop = 4096;  ///< bytes of the input that are vbmeta; the rest is a partition

verified::Walk walk(View top, View rest) {
  verified::WalkOptions options{
      .find = {}, .suffix = {}, .root_key = {}, .rollback = {{0, 1}, {1, 1}}};
  options.look = verified::Look::Trees;
  options.find = [&](const std::string& name) -> Result<SourcePtr> {
    return open_memory(Blob(to_bytes(name == "vbmeta" ? top : rest)), name);
  };
  auto out = verified::walk_chain(options, {});
  must(out.has_value());  // whatever the bytes: what is wrong with them is a fault
  return std::move(*out);
}

}  // namespace

/// A walk never fails, and never gets better by a byte behind the struct.
void chain(View input) {
  const View top = input.first(std::min(input.size(), kTop)), rest = input.subspan(top.size());
  const auto found = walk(top, rest);
  must(!found.locked_starts() || found.unlocked_starts());
  const auto vbmeta = verified::parse_vbmeta(Blob(to_bytes(top)));
  if (vbmeta && verified::loader_accepts(top)) {
    const auto draft = verified::draft_of(*vbmeta);
    if (draft && vbmeta->number("algorithm_type") == 0) {
      // What is written from a draft reads as the same claims.
      const auto again = verified::write_struct(*draft, nullptr, DigestKind::Sha256);
      must(!again || verified::parse_vbmeta(Blob(*again)).has_value());
    }
  }
  (void)verified::older_signature(input, input);
  (void)verified::read_public_key(input);
  (void)bootconfig_trouble(as_text(input));
  const auto source = open_memory(Blob(to_bytes(rest)), "rest");
  if (!rest.empty()) (void)footer_state(*source);
}

std::vector<std::string> chain_seeds() {
  const std::string image = test::noise(9000, 3);
  const std::string boot = test::with_footer(image, "boot", 1u << 16);
  const auto top = [](const std::string& descriptors, std::uint32_t flags = 0) {
    return test::padded(test::vbmeta(descriptors, flags), kTop);
  };
  return {top(test::hash_descriptor("boot", image, "salt") +
              test::chain_descriptor("boot", 1, std::string(520, 'k'))) +
              boot,
          top(test::hashtree_descriptor("system") + test::cmdline_descriptor(1, "a=b"), 1) + boot,
          top(test::property_descriptor("a", "b"), 3) + boot, "a.b = 1\nc { d = x, 'y' ; e }\n"};
}

/// Rules judge whatever reads.
void judge(View input) {
  const auto loaded = load_image(Blob(to_bytes(input)), "input");
  if (!loaded || !loaded->image) return;
  Context context;
  context.decode_bound = 4u << 20;
  Subject one{.partition = std::string(boot::partition_kind(*loaded->image)), .name = "input"};
  one.source = open_memory(loaded->bytes, "input");
  one.loaded = *loaded;
  one.reading = *read_deep(*one.loaded, context, Digests::Left);
  Report report;
  judge_form(one, &one, report);
  judge_ramdisks(one, &one, report);
  judge_against_stock(one, one, report);
  Subjects set;
  set.all.push_back(one);
  judge_set({set, {}, "", true}, report);
  judge_misc(one, "a", report);
  for (const Finding& finding : report.take())
    must(!finding.message.empty() && kind_of(finding.id.code).area == FindingArea::Start);
}

std::vector<std::string> judge_seeds() {
  // The image target changes all of them; every third is enough to reach each rule's code.
  const auto all = image_seeds();
  std::vector<std::string> seeds;
  for (std::size_t i = 0; i < all.size(); i += 3)
    seeds.push_back(all[i]);
  return seeds;
}

}  // namespace wexlo::fuzz
