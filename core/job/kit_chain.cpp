#include "job/kit_chain.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <set>

#include "base/digest.hpp"
#include "base/error_kinds.hpp"
#include "job/restore.hpp"
#include "judge/phone_set.hpp"
#include "seal/seal.hpp"

namespace wexlo {
namespace {

PreparedImage* find(Prepared& prepared, std::string_view partition) {
  const auto at = std::ranges::find(prepared.images, partition, &PreparedImage::partition);
  return at == prepared.images.end() ? nullptr : &*at;
}
const PreparedImage* find(const Prepared& prepared, std::string_view partition) {
  const auto at = std::ranges::find(prepared.images, partition, &PreparedImage::partition);
  return at == prepared.images.end() ? nullptr : &*at;
}

class KitSealer {
 public:
  KitSealer(StockImages& stock, const verified::SignerPtr& signer,
            const std::optional<Sheet>& sheet, Prepared& prepared, const Context& context)
      : stock_(stock), signer_(signer), sheet_(sheet), prepared_(prepared), context_(context) {}

  Status run() {
    for (const PreparedImage& one : prepared_.images)
      if (one.flashed && one.partition != "vbmeta") WEXLO_CHECK(add(one.partition));
    WEXLO_CHECK(add_vouchers());
    SealOptions options{.signer = signer_};
    WEXLO_TRY(options.sizes, sizes_of_new_footers());
    std::map<std::string, MemorySink> sinks;
    const OpenSink open = [&](const std::string& name) -> Result<ImageSink*> {
      return &sinks[name];
    };
    WEXLO_TRY(const Sealed sealed, seal_images(inputs_, options, open, context_));
    for (const SealedImage& one : sealed.images)
      WEXLO_CHECK(take(one, Blob(sinks.at(one.partition).take())));
    for (const Finding& one : sealed.findings)
      prepared_.findings.push_back(one);
    // The struct that all others hang from is written last.
    std::ranges::stable_partition(prepared_.images,
                                  [](const auto& one) { return one.partition != "vbmeta"; });
    return {};
  }

 private:
  /// Partitions whose image has no footer yet: only the phone's sheet knows where one goes.
  Result<std::map<std::string, std::uint64_t>> sizes_of_new_footers() const {
    std::map<std::string, std::uint64_t> out;
    for (const SealInput& one : inputs_) {
      if (is_vbmeta(one.partition)) continue;
      WEXLO_TRY(const auto footer, verified::read_footer(*one.source));
      if (footer) continue;
      const auto size = sheet_ ? sheet_->size_of(one.partition) : std::nullopt;
      if (!size)
        return fail({.code = ErrorCode::Usage,
                     .message = fmt::format("a signed {} needs a verified-boot footer, and where "
                                            "that goes depends on its partition's size",
                                            one.partition),
                     .file = stock_.where() + "!" + one.partition,
                     .expected = "a footer, or the partition's size in the phone's sheet",
                     .found = sheet_ ? "neither" : "no footer, and no sheet",
                     .hint = "Give the phone's sheet with --sheet: partition sizes are in it."});
      out[one.partition] = *size;
    }
    return out;
  }

  /// What the kit writes of a partition, else its stock image.
  Result<Blob> bytes_of(const std::string& partition) {
    if (const PreparedImage* one = find(std::as_const(prepared_), partition);
        one != nullptr && one->flashed)
      return one->patched.bytes;
    WEXLO_TRY(const LoadedImage* const stock, stock_.get(partition, context_));
    return stock == nullptr ? Blob() : stock->bytes;
  }

  Status add(const std::string& partition) {
    if (std::ranges::find(inputs_, partition, &SealInput::partition) != inputs_.end()) return {};
    WEXLO_TRY(const Blob bytes, bytes_of(partition));
    if (!bytes.empty()) inputs_.push_back({partition, open_memory(bytes, partition)});
    return {};
  }

  /// Structs that speak of what is changed, up to the top.
  Status add_vouchers() {
    std::set<std::string> touched;
    for (const SealInput& one : inputs_)
      touched.insert(one.partition);
    bool top = false;
    for (const PartitionFacts& one : stock_.firmware().partitions) {
      const std::string name(without_slot(one.name));
      if (!is_vbmeta(name) || one.size == 0) continue;
      WEXLO_TRY(const Blob bytes, bytes_of(name));
      if (bytes.empty()) continue;
      top = top || name == "vbmeta";
      const auto vbmeta = verified::parse_vbmeta(bytes);
      if (!vbmeta) return fail(in_file(vbmeta.error(), stock_.where() + "!" + name));
      WEXLO_TRY(const auto all, verified::descriptors(*vbmeta));
      const bool speaks = std::ranges::any_of(all, [&](const verified::Descriptor& claim) {
        return touched.contains(std::string(verified::partition_of(claim)));
      });
      if (name == "vbmeta" || speaks) WEXLO_CHECK(add(name));
    }
    // Without that partition boot's own struct is at the top.
    return top ? Status() : add("boot");
  }

  Status take(const SealedImage& sealed, Blob bytes) {
    WEXLO_TRY(const Blob before, bytes_of(sealed.partition));
    if (equal(before.view(), bytes.view())) return {};
    PreparedImage* image = find(prepared_, sealed.partition);
    if (image == nullptr) {
      prepared_.images.push_back({.partition = sealed.partition, .patched = {}, .files = {}});
      image = &prepared_.images.back();
    }
    WEXLO_CHECK(account(sealed, before.view(), bytes.view(), image->patched));
    image->flashed = true;
    image->patched.changed = true;
    image->patched.bytes = bytes;
    image->patched.sha256 = sha256_hex(bytes.view());
    return way_back(*image);
  }

  /// Nothing but structs and footers may differ from what was patched.
  static Status account(const SealedImage& sealed, View before, View after, Patched& patched) {
    const std::string cause = fmt::format("sealed: {}", fmt::join(sealed.done, ", "));
    std::vector<ChangedRange> allowed;
    if (is_vbmeta(sealed.partition)) {
      std::uint64_t end = 0;
      for (const View side : {before, after})
        if (const auto vbmeta = verified::parse_vbmeta(Blob(to_bytes(side))))
          end = std::max(end, vbmeta->sections_end());
      allowed.push_back({0, end, "verified-boot struct", cause});
    } else {
      for (const View side : {before, after}) {
        const auto footer = verified::find_footer(side);
        if (footer && *footer)
          allowed.push_back(
              {(*footer)->vbmeta_offset, (*footer)->vbmeta_size, "verified-boot struct", cause});
      }
      allowed.push_back({after.size() - verified::kFooterSize, verified::kFooterSize,
                         "verified-boot footer", cause});
    }
    const std::size_t common = std::min(before.size(), after.size());
    for (std::size_t at = 0; at < std::max(before.size(), after.size()); ++at) {
      if (at < common && before[at] == after[at]) continue;
      const bool meant = std::ranges::any_of(allowed, [&](const ChangedRange& one) {
        return at >= one.offset && at < one.offset + one.size;
      });
      if (!meant)
        return fail({.code = ErrorCode::Unexplained,
                     .message = "sealing changed a byte outside of what it makes true",
                     .file = sealed.partition,
                     .offset = at});
    }
    if (allowed.size() == 3 && allowed[0].offset == allowed[1].offset)
      allowed.erase(allowed.begin());
    for (ChangedRange& one : allowed)
      patched.ranges.push_back(std::move(one));
    std::ranges::sort(patched.ranges, {}, &ChangedRange::offset);
    return {};
  }

  /// Another signature may stand in the way back's way: it is tried.
  Status way_back(PreparedImage& image) {
    WayBack& back = image.patched.way_back;
    back.in_image = false;
    back.reason = "it is signed with your own key";
    const auto loaded = load_image(image.patched.bytes, image.partition);
    if (!loaded) return fail(loaded.error());
    const auto restored = restore_image(*loaded, {}, {}, context_);
    if (!restored && is_of_this_run(restored.error().code)) return fail(restored.error());
    WEXLO_TRY(const LoadedImage* const stock, stock_.get(image.partition, context_));
    if (restored && stock != nullptr && equal(restored->bytes.view(), stock->bytes.view()))
      back = {.in_image = true, .reason = {}};
    return {};
  }

  StockImages& stock_;
  const verified::SignerPtr& signer_;
  const std::optional<Sheet>& sheet_;
  Prepared& prepared_;
  const Context& context_;
  std::vector<SealInput> inputs_;
};

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

}  // namespace

Status seal_kit(StockImages& stock, const verified::SignerPtr& signer,
                const std::optional<Sheet>& sheet, Prepared& prepared, const Context& context) {
  return KitSealer(stock, signer, sheet, prepared, context).run();
}

Result<Verification> judge_kit(StockImages& stock, const Bytes& key, const Prepared& prepared,
                               const Context& context) {
  PhoneSet set;
  set.add(stock.firmware());
  for (const PreparedImage& one : prepared.images)
    if (one.flashed) set.add(one.partition, one.patched.bytes);
  std::set<std::string> large;
  for (const GivenPart& one : prepared.given) {
    set.add(one.given.partition, one.given.source);
    large.insert(std::string(without_slot(one.given.partition)));
  }
  std::string other;
  verified::WalkOptions options{
      .find = {}, .suffix = set.suffix("", other), .root_key = key, .rollback = {}};
  // What was given is not what the firmware's trees are of, until it is shown to be.
  options.trees = std::move(large);
  if (key.empty()) {
    WEXLO_TRY(const LoadedImage* const top, stock.get("vbmeta", context));
    if (top != nullptr && top->image && top->image->kind() == "vbmeta")
      options.root_key = to_bytes(verified::public_key_of(*top->image));
  }
  WEXLO_TRY(const verified::Walk walk, walk_set(set, options, context));
  Verification out{.locked = walk.locked(), .unlocked = walk.unlocked()};
  if (!key.empty()) out.key_sha256 = sha256_hex(key);
  const bool starts_locked = out.locked == verified::Outlook::Starts;
  out.needs = starts_locked && !key.empty() ? "own-key" : "unlocked";
  out.why = out.needs == "unlocked"
                ? why_unlocked(walk)
                : fmt::format(
                      "Everything that changed is signed with the key {}…: a phone that "
                      "trusts it starts locked.",
                      out.key_sha256.substr(0, 16));
  if (starts_locked && key.empty())
    out.why = walk.verification_disabled
                  ? "The flags of vbmeta switch verification off, and its signature holds."
                  : "All digests and signatures are true with the maker's key.";
  if (out.unlocked == verified::Outlook::Refuses) out.stop = walk.first_stop(false)->message;
  out.walk = walk;
  return out;
}

}  // namespace wexlo
