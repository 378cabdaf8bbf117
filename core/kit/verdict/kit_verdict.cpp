#include "kit/verdict/kit_verdict.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/digest.hpp"
#include "judge/phone_set.hpp"
#include "ramdisk/textfiles.hpp"

namespace wexlo {
namespace {

std::string why_unlocked(const verified::Walk& walk) {
  const verified::Fault* stop = walk.first_stop(true);
  if (walk.structs.empty())
    return "Nothing in the firmware is under verified boot: the loader's own checks are not "
           "known, and a changed image has no signature of its maker.";
  return fmt::format(
      "A locked phone would stop at power-on: {} Unlocked, it shows its warning and "
      "goes on.",
      stop == nullptr ? "" : stop->message);
}

std::string why_of(const KitVerdict& verdict, const verified::Walk& walk, bool own_key) {
  const bool starts_locked = verdict.locked == verified::Outlook::Starts;
  if (starts_locked && !own_key)
    return walk.verification_disabled
               ? "The flags of vbmeta switch verification off, and its signature is valid."
               : "All digests and signatures are valid with the maker's key.";
  if (verdict.needs == Needs::Unlocked) return why_unlocked(walk);
  return fmt::format(
      "Everything that changed is signed with the key {}: a phone that trusts it starts locked.",
      short_digest(verdict.key_sha256));
}

/// Mount points that are verified when the system starts, by the images as the kit leaves them.
Result<std::set<std::string>> verified_mounts(const KitImages& images,
                                              const std::vector<ImageFacts>& chain,
                                              const Context& context) {
  std::set<std::string> out;
  for (const std::string_view partition : ramdisk_partitions(RamdiskOrder::Joined)) {
    if (partition == "recovery") continue;  // a normal start mounts nothing by what is in there
    const std::string name(partition);
    const KitImage* changed = find_image(images, name);
    ImageFacts facts;
    if (changed != nullptr && changed->written && changed->is_held()) {
      WEXLO_TRY(const LoadedImage image, load_image(changed->patched.bytes, name));
      WEXLO_TRY(facts, image_facts(image, name, context));
    } else if (const auto at = std::ranges::find(chain, name, &ImageFacts::partition);
               at != chain.end()) {
      facts = *at;
    }
    for (const auto& [place, text] : facts.fstabs)
      for (const FstabRow& row : fstab_rows(text))
        if (row.verified) out.insert(row.mount_point);
  }
  return out;
}

}  // namespace

Result<JudgedKit> judge_kit(const KitImages& images, StockImages& stock, const Bytes& key,
                            bool whole, const Context& context) {
  PhoneSet set;
  set.add(stock.firmware());
  // What was read already is not taken out of its package once more.
  for (const auto& [partition, image] : stock.read())
    set.add(partition, image.bytes);
  std::set<std::string> large;
  for (const KitImage& one : images) {
    if (!one.written) continue;
    set.add(one.partition, one.content);
    if (!one.is_held()) large.insert(std::string(without_slot(one.partition)));
  }
  std::string other;
  verified::WalkOptions options{
      .find = {}, .suffix = set.suffix("", other), .root_key = key, .rollback = {}, .whole = whole};
  // What was given is not what the firmware's trees are of, until it is shown to be.
  options.trees = std::move(large);
  if (key.empty()) {
    WEXLO_TRY(const LoadedImage* const top, stock.get("vbmeta", context));
    if (top != nullptr && top->image && top->image->kind() == "vbmeta")
      options.root_key = to_bytes(verified::public_key_of(*top->image));
  }
  JudgedKit out;
  WEXLO_TRY(out.walk, walk_set(set, options, context));
  KitVerdict& verdict = out.verdict;
  verdict.locked = out.walk.locked();
  verdict.unlocked = out.walk.unlocked();
  if (!key.empty()) verdict.key_sha256 = sha256_hex(key);
  verdict.needs =
      verdict.locked == verified::Outlook::Starts && !key.empty() ? Needs::OwnKey : Needs::Unlocked;
  verdict.why = why_of(verdict, out.walk, !key.empty());
  if (verdict.unlocked == verified::Outlook::Refuses)
    out.stop = out.walk.first_stop(false)->message;
  return out;
}

Result<std::vector<Finding>> judge_mounts(const KitImages& images,
                                          const std::vector<ImageFacts>& chain,
                                          const verified::Walk& walk, const Context& context) {
  std::vector<Finding> out;
  if (walk.structs.empty() || walk.verification_disabled || walk.hashtrees_disabled) return out;
  const auto is_file = [](const KitImage& one) { return one.written && !one.is_held(); };
  if (std::ranges::none_of(images, is_file)) return out;
  WEXLO_TRY(const auto verified, verified_mounts(images, chain, context));
  for (const KitImage& image : images) {
    if (!is_file(image)) continue;
    const std::string name(without_slot(image.partition));
    if (!verified.contains("/" + name) && !(name == "system" && verified.contains("/"))) continue;
    out.push_back(
        {Level::Problem,
         {FindingCode::MountNotCovered, name},
         fmt::format("{} is verified when it is mounted, and vbmeta covers the maker's image, not "
                     "this one: the start would stop there. Give a recipe that sets the flag "
                     "hashtree-disabled in vbmeta or drops avb at /{}, or a vbmeta of your own "
                     "with --with vbmeta=FILE.",
                     name, name),
         image.partition});
  }
  return out;
}

}  // namespace wexlo
