/// Accounting for what stands behind an image's sections: padding, footer and struct, sealed block.

#include <algorithm>

#include "image/sealed_block.hpp"
#include "recipe/account.hpp"
#include "verified/layout.hpp"
#include "verified/older_signature.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {
namespace {

class TailAccount {
 public:
  TailAccount(const LoadedImage& stock, const LoadedImage& output, const Intent& intent)
      : stock_(stock), output_(output), intent_(intent) {}

  Result<std::string> run() {
    const Image& out = *output_.image;
    const Image& old = *stock_.image;
    const std::uint64_t begin = out.sections_end();
    WEXLO_TRY(const auto footer, verified::find_footer(output_bytes()));
    WEXLO_TRY(const auto old_footer, verified::find_footer(stock_bytes()));
    if (footer.has_value() != old_footer.has_value())
      return unexplained("the verified-boot footer", begin);
    View behind = out.tail().view(), old_behind = old.tail().view();
    if (footer && (intent_.struct_flags || !equal(behind, old_behind)))
      WEXLO_CHECK(footer_area(*footer, *old_footer));
    if (footer) {
      behind = output_bytes().subspan(static_cast<std::size_t>(footer->end));
      old_behind = stock_bytes().subspan(static_cast<std::size_t>(old_footer->end));
    }
    WEXLO_TRY(const bool sealed, sealed_behind(behind, old_behind));
    bool older = false;
    if (!footer) {
      WEXLO_TRY(older, older_signature(behind, old_behind));
      WEXLO_CHECK(plain_tail(out, behind, old_behind));
    }
    if (footer && !equal(behind, old_behind))
      return unexplained("bytes behind the verified-boot footer", footer->end);
    return std::string(footer && sealed
                           ? "verified-boot footer and sealed block, renewed for the new content"
                       : footer ? "verified-boot footer and its digest, renewed for the new content"
                       : older  ? "older boot signature, made again for the new content"
                       : sealed ? "padding, and a sealed block that was renewed for the new content"
                                : "padding, up to the stock image's size");
  }

 private:
  View stock_bytes() const { return stock_.bytes.view(); }
  View output_bytes() const { return output_.bytes.view(); }

  /// A sealed block at the files' ends, and what follows it, is taken off both: of a block that was
  /// valid length and digest may differ, and it has to be valid again.
  Result<bool> sealed_behind(View& now, View& before) const {
    const View out = output_bytes(), old = stock_bytes();
    const auto block = sealed_block::find(old, old.size() - before.size());
    if (!block) return false;
    const auto from_end = static_cast<std::size_t>(old.size() - block->offset);
    if (from_end > now.size()) return unexplained("the sealed block", out.size() - now.size());
    const std::uint64_t at = out.size() - from_end;
    View fresh = out.last(from_end), was = old.last(from_end);
    if (block->valid) {
      const auto found = sealed_block::find(out, at);
      if (!found || found->offset != at || !found->valid)
        return unexplained("the sealed block's digest does not match", at);
      Bytes expected = to_bytes(was);
      sealed_block::renew(expected, out.subspan(static_cast<std::size_t>(found->begin),
                                                static_cast<std::size_t>(found->covered)));
      if (!equal(fresh, expected)) return unexplained("the sealed block", at);
    } else if (!equal(fresh, was)) {
      return unexplained("the sealed block", at);
    }
    now = now.first(now.size() - from_end);
    before = before.first(before.size() - from_end);
    return block->valid;
  }

  /// An older signature that was valid may be another one, which has to be valid, too, and for the
  /// same target: both are taken off.
  Result<bool> older_signature(View& now, View& before) const {
    const std::uint64_t end = output_.image->sections_end(), old_end = stock_.image->sections_end();
    const auto was = verified::older_signature(before, stock_bytes().first(old_end));
    if (!was || !was->holds) return false;
    const auto is = verified::older_signature(now, output_bytes().first(end));
    if (is && is->size == was->size && equal(now.first(is->size), before.first(was->size)))
      return false;
    if (!is || !is->holds || is->target != was->target)
      return unexplained("the older boot signature", end);
    now = now.subspan(is->size);
    before = before.subspan(was->size);
    return true;
  }

  /// The same bytes but for the length of the padding at the end.
  static Status plain_tail(const Image& out, View now, View before) {
    const std::size_t common = std::min(now.size(), before.size());
    const View rest = now.size() > common ? now.subspan(common) : before.subspan(common);
    const bool filled = rest.empty() || all_bytes(rest, rest.back());
    if (!equal(now.first(common), before.first(common)) || !filled)
      return unexplained("bytes after the last section", out.sections_end());
    return {};
  }

  /// Of the footer the image's size and the struct's place follow from the content; nothing else
  /// does.
  Status footer_fields(const verified::Footer& now, const verified::Footer& old) const {
    const std::uint64_t at = now.end - verified::kFooterSize,
                        old_at = old.end - verified::kFooterSize;
    if (now.end != old.end) return unexplained("the footer's place", at);
    const View out = output_bytes().subspan(static_cast<std::size_t>(at), verified::kFooterSize),
               before =
                   stock_bytes().subspan(static_cast<std::size_t>(old_at), verified::kFooterSize);
    if (!equal(out.first(verified::kOriginalSizeAt), before.first(verified::kOriginalSizeAt)))
      return unexplained("the footer's version", at);
    if (now.vbmeta_size != old.vbmeta_size)
      return unexplained("the footer's vbmeta_size", at + verified::kVbmetaSizeAt);
    if (!equal(out.subspan(verified::kVbmetaSizeAt), before.subspan(verified::kVbmetaSizeAt)))
      return unexplained("reserved bytes of the footer", at + verified::kVbmetaSizeAt);
    return {};
  }

  /// Of the struct, size and digest in the image's own hash descriptor may differ: every other byte
  /// of it, other partitions' descriptors, properties and keys among them, is as it was.
  static Status own_struct(const Image& vbmeta, const Image& old_vbmeta,
                           const verified::Footer& now) {
    if (!equal(vbmeta.header(), old_vbmeta.header()) ||
        !equal(vbmeta.section("authentication")->bytes.view(),
               old_vbmeta.section("authentication")->bytes.view()))
      return unexplained("the footer's vbmeta struct", now.vbmeta_offset);
    WEXLO_TRY(const auto all, verified::descriptors(vbmeta));
    WEXLO_TRY(const auto old_all, verified::descriptors(old_vbmeta));
    const View auxiliary = vbmeta.section("auxiliary")->bytes.view();
    const View old_auxiliary = old_vbmeta.section("auxiliary")->bytes.view();
    bool same = auxiliary.size() == old_auxiliary.size() && all.size() == old_all.size();
    Bytes rest = to_bytes(auxiliary), old_rest = to_bytes(old_auxiliary);
    unsigned changed = 0;
    for (std::size_t i = 0; same && i < all.size(); ++i) {
      same = all[i].offset == old_all[i].offset && all[i].size == old_all[i].size;
      if (!same || equal(auxiliary.subspan(all[i].offset, all[i].size),
                         old_auxiliary.subspan(all[i].offset, all[i].size)))
        continue;
      const auto* hash = std::get_if<verified::HashDescriptor>(&all[i].value);
      same = hash != nullptr && ++changed == 1 && hash->image_size == now.original_image_size;
      if (!same) break;
      const std::size_t digest_at =
          verified::kHashFixed + hash->partition.size() + hash->salt.size();
      for (Bytes* one : {&rest, &old_rest}) {
        const auto begin = one->begin() + static_cast<std::ptrdiff_t>(all[i].offset);
        std::fill_n(begin + verified::kHashImageSizeAt, sizeof(std::uint64_t), std::byte{0});
        std::fill_n(begin + static_cast<std::ptrdiff_t>(digest_at), hash->digest.size(),
                    std::byte{0});
      }
    }
    if (same && rest == old_rest) return {};
    return unexplained("the footer's vbmeta struct holds another descriptor or key",
                       now.vbmeta_offset);
  }

  /// The footer's struct may differ in the hash descriptor alone, and that has to match.
  Status footer_area(const verified::Footer& now, const verified::Footer& old) const {
    const auto struct_of = [](const LoadedImage& image, const verified::Footer& footer) {
      return verified::parse_vbmeta(image.bytes.part(footer.vbmeta_offset, footer.vbmeta_size));
    };
    WEXLO_TRY(const Image vbmeta, struct_of(output_, now));
    WEXLO_TRY(const Image old_vbmeta, struct_of(stock_, old));
    WEXLO_CHECK(footer_fields(now, old));
    Image expected = old_vbmeta;
    if (intent_.struct_flags) WEXLO_CHECK(expected.set_number("flags", *intent_.struct_flags));
    WEXLO_CHECK(own_struct(vbmeta, expected, now));
    WEXLO_TRY(const auto was_true, verified::own_digest_matches(stock_bytes()));
    WEXLO_TRY(const auto is_true, verified::own_digest_matches(output_bytes()));
    if (was_true.value_or(false) && !is_true.value_or(false))
      return unexplained("the footer's digest does not match", now.vbmeta_offset);
    const std::uint64_t end = output_.image->sections_end();
    const std::uint64_t gap_end = now.end - verified::kFooterSize;
    const std::uint64_t struct_end = now.vbmeta_offset + now.vbmeta_size;
    // Between image and struct: what stood there, then zeros.
    const std::uint64_t old_begin = std::max(old.original_image_size, stock_.image->sections_end());
    const View gap = output_bytes().subspan(now.original_image_size,
                                            now.vbmeta_offset - now.original_image_size);
    const View old_gap = old.vbmeta_offset > old_begin
                             ? stock_bytes().subspan(old_begin, old.vbmeta_offset - old_begin)
                             : View{};
    const std::size_t common = std::min(gap.size(), old_gap.size());
    if (now.original_image_size < end || !equal(gap.first(common), old_gap.first(common)) ||
        !all_bytes(gap.subspan(common), std::byte{0}) ||
        !all_bytes(old_gap.subspan(common), std::byte{0}) ||
        !all_bytes(output_bytes().subspan(struct_end, gap_end - struct_end), std::byte{0}))
      return unexplained("bytes around the verified-boot struct", end);
    return {};
  }

  const LoadedImage &stock_, &output_;
  const Intent& intent_;
};

}  // namespace

Result<std::string> account_tail(const LoadedImage& stock, const LoadedImage& output,
                                 const Intent& intent) {
  return TailAccount(stock, output, intent).run();
}

}  // namespace wexlo
