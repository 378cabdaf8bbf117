#include "kit/verdict/kit_seal.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <set>

#include "base/digest.hpp"
#include "base/error_kinds.hpp"
#include "firmware/content.hpp"
#include "recipe/restore.hpp"
#include "seal/seal.hpp"

namespace wexlo {
namespace {

class KitSealer {
 public:
  KitSealer(StockImages& stock, const verified::SignerPtr& signer, const Sheet* sheet,
            KitImages& images, const Context& context)
      : stock_(stock), signer_(signer), sheet_(sheet), images_(images), context_(context) {}

  Result<std::vector<Finding>> run() {
    for (const KitImage& one : images_)
      if (one.written && one.is_held() && one.partition != "vbmeta")
        WEXLO_CHECK(add(one.partition));
    WEXLO_CHECK(add_structs());
    SealOptions options{.signer = signer_};
    WEXLO_TRY(options.sizes, sizes_of_new_footers());
    std::map<std::string, MemorySink> sinks;
    const OpenSink open = [&](const std::string& name) -> Result<ImageSink*> {
      return &sinks[name];
    };
    WEXLO_TRY(Sealed sealed, seal_images(inputs_, options, open, context_));
    for (const SealedImage& one : sealed.images)
      WEXLO_CHECK(take(one, sinks.at(one.partition).take()));
    put_in_order(images_);
    return std::move(sealed.findings);
  }

 private:
  /// Partitions whose image has no footer yet: only the phone's sheet knows where one goes.
  Result<std::map<std::string, std::uint64_t>> sizes_of_new_footers() const {
    std::map<std::string, std::uint64_t> out;
    for (const SealInput& one : inputs_) {
      if (is_vbmeta(one.partition)) continue;
      WEXLO_TRY(const auto footer, verified::read_footer(*one.source));
      if (footer) continue;
      const auto size = sheet_ != nullptr ? sheet_->size_of(one.partition) : std::nullopt;
      if (!size)
        return fail({.code = ErrorCode::Usage,
                     .message = fmt::format("a signed {} needs a verified-boot footer, and where "
                                            "that goes depends on its partition's size",
                                            one.partition),
                     .file = stock_.where() + "!" + one.partition,
                     .expected = "a footer, or the partition's size in the phone's sheet",
                     .found = sheet_ != nullptr ? "neither" : "no footer, and no sheet",
                     .hint = "Give the phone's sheet with --sheet: partition sizes are in it."});
      out[one.partition] = *size;
    }
    return out;
  }

  /// What the kit writes of a partition, else its stock image.
  Result<Blob> bytes_of(const std::string& partition) {
    if (const KitImage* one = find_image(images_, partition);
        one != nullptr && one->written && one->is_held())
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

  /// Structs that cover what is changed, up to the top.
  Status add_structs() {
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
      const bool covers = std::ranges::any_of(all, [&](const verified::Descriptor& claim) {
        return touched.contains(std::string(verified::partition_of(claim)));
      });
      if (name == "vbmeta" || covers) WEXLO_CHECK(add(name));
    }
    // Without that partition boot's own struct is at the top.
    return top ? Status() : add("boot");
  }

  Status take(const SealedImage& sealed, Blob bytes) {
    WEXLO_TRY(const Blob before, bytes_of(sealed.partition));
    if (equal(before.view(), bytes.view())) return {};
    KitImage* image = find_image(images_, sealed.partition);
    if (image == nullptr) {
      images_.push_back({.partition = sealed.partition});
      image = &images_.back();
    }
    WEXLO_CHECK(account(sealed, before.view(), bytes.view(), image->patched));
    image->written = true;
    image->content = open_memory(bytes, sealed.partition);
    image->patched.changed = true;
    image->patched.bytes = bytes;
    image->patched.sha256 = sha256_hex(bytes.view());
    return way_back(*image);
  }

  /// Nothing but structs and footers may differ from what was patched.
  static Status account(const SealedImage& sealed, View before, View after, Patched& patched) {
    const std::string cause = fmt::format("sealed: {}", fmt::join(sealed.done, ", "));
    std::vector<ChangedRange> allowed;
    std::uint64_t footer_end = after.size();
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
        if (footer && *footer) footer_end = (*footer)->end;
      }
      allowed.push_back({footer_end - verified::kFooterSize, verified::kFooterSize,
                         "verified-boot footer", cause});
      if (allowed.size() == 3 && allowed[0].offset == allowed[1].offset)
        allowed.erase(allowed.begin());
      if (before.size() < after.size()) add_room(before.size(), after, cause, allowed);
    }
    const std::size_t common = std::min(before.size(), after.size());
    for (std::size_t at = 0; at < std::max(before.size(), after.size()); ++at) {
      if (at < common && before[at] == after[at]) continue;
      const bool meant = std::ranges::any_of(allowed, [&](const ChangedRange& one) {
        return at >= one.offset && at < one.offset + one.size;
      });
      if (!meant)
        return fail({.code = ErrorCode::Unexplained,
                     .message = "sealing changed a byte outside of structs and footers",
                     .file = sealed.partition,
                     .offset = at});
    }
    for (ChangedRange& one : allowed)
      patched.ranges.push_back(std::move(one));
    std::ranges::sort(patched.ranges, {}, &ChangedRange::offset);
    return {};
  }

  /// An image without a footer grows to its partition's size: around struct and footer are zeros.
  static void add_room(std::uint64_t begin, View after, const std::string& cause,
                       std::vector<ChangedRange>& allowed) {
    std::vector<ChangedRange> taken = allowed;
    std::ranges::sort(taken, {}, &ChangedRange::offset);
    for (const ChangedRange& one : taken) {
      if (one.offset > begin &&
          all_zero(after.subspan(begin, static_cast<std::size_t>(one.offset - begin))))
        allowed.push_back({begin, one.offset - begin, "room up to the partition's end", cause});
      begin = std::max(begin, one.offset + one.size);
    }
  }

  /// Another signature may stand in the way back's way: it is tried.
  Status way_back(KitImage& image) {
    WayBack& back = image.patched.way_back;
    back.in_image = false;
    back.reason = "it is signed with your own key";
    const auto loaded = load_image(image.patched.bytes, image.partition);
    if (!loaded) return fail(loaded.error());
    const auto restored = restore_image(*loaded, {}, context_);
    if (!restored && is_of_this_run(restored.error().code)) return fail(restored.error());
    WEXLO_TRY(const LoadedImage* const stock, stock_.get(image.partition, context_));
    if (restored && stock != nullptr && equal(restored->bytes.view(), stock->bytes.view()))
      back = {.in_image = true, .reason = {}};
    return {};
  }

  StockImages& stock_;
  const verified::SignerPtr& signer_;
  const Sheet* sheet_;
  KitImages& images_;
  const Context& context_;
  std::vector<SealInput> inputs_;
};

}  // namespace

Result<std::vector<Finding>> seal_kit(KitImages& images, StockImages& stock,
                                      const verified::SignerPtr& signer, const Sheet* sheet,
                                      const Context& context) {
  return KitSealer(stock, signer, sheet, images, context).run();
}

}  // namespace wexlo
