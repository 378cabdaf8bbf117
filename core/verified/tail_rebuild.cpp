/// What stands behind a changed image's sections: padding, footer and struct, sealed blocks.

#include <fmt/format.h>

#include <algorithm>

#include "base/digest.hpp"
#include "image/boot.hpp"
#include "image/prefix.hpp"
#include "image/sealed_block.hpp"
#include "image/tail.hpp"
#include "verified/chain.hpp"
#include "verified/hash_tree.hpp"
#include "verified/layout.hpp"
#include "verified/older_signature.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo::verified {
namespace {

constexpr std::uint64_t kBlock = 4096;  ///< the struct starts at a multiple of this

Error does_not_fit(std::uint64_t need, std::uint64_t have, std::string_view room) {
  return {.code = ErrorCode::DoesNotFit,
          .message = fmt::format("the image is {} bytes too large for its partition", need - have),
          .expected = fmt::format("at most {} bytes {}", have, room),
          .found = fmt::format("{} bytes", need),
          .hint = "Put fewer or smaller files in, or strip them; the partition cannot grow."};
}

/// Writes image size and digest into the struct's hash descriptor of the image itself. Those of
/// other partitions say nothing of it.
/// @param stock  the image as it was: tells which descriptor is its own
Status renew_hash(Image& vbmeta, View content, View stock, std::string_view partition,
                  std::vector<Remark>& notes) {
  WEXLO_TRY(const auto all, descriptors(vbmeta));
  Bytes auxiliary = to_bytes(vbmeta.section("auxiliary")->bytes.view());
  const auto own = own_hash_descriptor(all, stock, partition);
  const auto* hash = own ? std::get_if<HashDescriptor>(&all[*own].value) : nullptr;
  const auto kind = hash != nullptr ? hash_algorithm(hash->hash_algorithm) : std::nullopt;
  if (hash != nullptr && !kind)
    notes.emplace_back(
        fmt::format("The footer's digest uses {}, which is not known here: it was "
                    "left as it is and is stale now.",
                    hash->hash_algorithm));
  if (hash != nullptr && kind) {
    const Bytes value = salted_digest(*kind, hash->salt, content);
    std::byte* at = auxiliary.data() + all[*own].offset;
    store<std::uint64_t, std::endian::big>(at + kHashImageSizeAt, content.size());
    const std::size_t digest_at = kHashFixed + hash->partition.size() + hash->salt.size();
    std::copy_n(value.begin(), std::min(value.size(), hash->digest.size()), at + digest_at);
  }
  WEXLO_CHECK(vbmeta.replace("auxiliary", Blob(std::move(auxiliary))));
  if (vbmeta.number("algorithm_type") != 0)
    notes.emplace_back(
        "The image's own verified-boot signature is stale now: an unlocked phone goes "
        "on, a locked one refuses it.",
        true);
  return {};
}

View without_zeros(View bytes) {
  std::size_t size = bytes.size();
  while (size > 0 && bytes[size - 1] == std::byte{0})
    --size;
  return bytes.first(size);
}

/// Original bytes behind the sections that are neither padding nor part of the verified-boot area,
/// e.g. a trailer that has to follow the last section directly.
std::size_t meaningful_size(View tail) {
  std::size_t size = tail.size();
  while (size > 0 && tail[size - 1] == tail.back() &&
         (tail.back() == std::byte{0} || tail.back() == std::byte{0xff}))
    --size;
  return size;
}

/// The tail of an image without footer: what stood there directly behind the sections, then the
/// padding up to the file's old size.
Result<Bytes> padded_tail(const Image& image, View tail, View stock) {
  const std::size_t kept = meaningful_size(tail);
  const std::uint64_t end = image.sections_end() + kept;
  Bytes out = to_bytes(tail.first(kept));
  if (kept == tail.size()) return out;  // no padding: the file was as long as its content
  if (end > stock.size())
    return fail(does_not_fit(end, stock.size(), "(the stock image's padded size)"));
  out.resize(kept + (stock.size() - end), tail.back());
  return out;
}

/// The same, where a sealed block may stand behind padding: it keeps its place in the file.
Result<Bytes> plain_tail(const Image& image, View stock) {
  const View tail = image.tail().view();
  const std::uint64_t begin = stock.size() - tail.size();
  const auto block = sealed_block::find(stock, begin);
  if (!block) return padded_tail(image, tail, stock);
  const auto before = static_cast<std::size_t>(block->offset - begin);
  WEXLO_TRY(Bytes out, padded_tail(image, tail.first(before),
                                   stock.first(static_cast<std::size_t>(block->offset))));
  append(out, tail.subspan(before));
  return out;
}

/// A stock image whose older signature was valid gets one that is valid for what it holds now: some
/// loaders want one even when unlocked.
/// @param stock  gets the signature's place in the stock image filled as in the new one
Status renew_older_signature(Image& image, Bytes& stock, std::vector<Remark>& notes) {
  const std::uint64_t end = stock.size() - image.tail().size();
  const auto was = older_signature(View(stock).subspan(end), View(stock).first(end));
  Image bare = image;
  bare.set_tail({});
  WEXLO_TRY(const Bytes made, renewed_older_signature(bare.write(), was->target));
  const Bytes rest = to_bytes(View(stock).subspan(end + was->size));
  const std::size_t size = stock.size();
  stock.resize(end);
  append(stock, View(made));
  // Padding gives or takes, so that the file's size stays where it can.
  if (!rest.empty() && all_bytes(rest, rest.front()))
    stock.resize(std::max(stock.size(), size), rest.front());
  else
    append(stock, View(rest));
  image.set_tail(Blob(to_bytes(View(stock).subspan(end))));
  notes.emplace_back(
      fmt::format("The older boot signature for {} was made again, with Wexlo's own key: loaders "
                  "of its time want a valid one, whoever made it.",
                  was->target));
  return {};
}

/// A sealed block behind the image is made valid for the changed bytes where it was valid.
void renew_sealed_block(Image& image, View stock, std::uint64_t stock_end, std::uint64_t from) {
  // Looked for first: the image is written out for its digest alone.
  if (!sealed_block::find(stock, from)) return;
  Bytes all = image.write();
  const auto moved = static_cast<std::int64_t>(image.sections_end() - stock_end);
  if (sealed_block::renew_behind(all, stock, from, moved))
    image.set_tail(Blob(to_bytes(View(all).last(image.tail().size()))));
}

/// The tail with its footer, for the image as it is now.
/// @param stock      the stock image up to its footer's end, which is the partition's
/// @param stock_end  where its sections end
/// @param flags      what the struct shall have; nullopt: as it has
Result<Bytes> footed_tail(const Image& image, View stock, std::uint64_t stock_end,
                          const Footer& footer, std::optional<std::uint32_t> flags,
                          std::vector<Remark>& notes) {
  // The original image may have ended without the last section's padding.
  if (footer.original_image_size + image.page() <= stock_end ||
      footer.vbmeta_offset < footer.original_image_size || footer.vbmeta_size > kMaxVbmeta)
    return fail(
        {.code = ErrorCode::Unsupported,
         .message = "the verified-boot footer does not belong to this image's sections",
         .offset = stock.size() - kFooterSize + kOriginalSizeAt,
         .expected = fmt::format("an image of about {} bytes", stock_end),
         .found = fmt::format("{} bytes, vbmeta {} bytes from {}", footer.original_image_size,
                              footer.vbmeta_size, footer.vbmeta_offset),
         .hint = "Start from the stock image: this one was put together wrongly."});
  const std::uint64_t struct_end = footer.vbmeta_offset + footer.vbmeta_size;
  if (!all_bytes(stock.subspan(struct_end, stock.size() - kFooterSize - struct_end), std::byte{0}))
    return fail({.code = ErrorCode::Unsupported,
                 .message =
                     "bytes that nobody claims stand between the verified-boot struct and its "
                     "footer",
                 .offset = struct_end,
                 .expected = "zeros",
                 .hint = "They would be lost in an edit; please report the kind of phone."});
  // [sections][rest of the original image][gap][zeros][vbmeta struct][zeros][footer]
  const std::uint64_t original_end = std::max(footer.original_image_size, stock_end);
  const std::uint64_t gap_end = std::max(footer.vbmeta_offset, original_end);
  View trailer = stock.subspan(stock_end, original_end - stock_end);
  // Some makers keep bytes of their own between image and struct.
  const View gap = without_zeros(stock.subspan(original_end, gap_end - original_end));
  const std::uint64_t sections_end = image.sections_end();
  const std::uint64_t behind = align_up(footer.vbmeta_size, kBlock) + kBlock;
  const auto vbmeta_place = [&] {
    return align_up(sections_end + trailer.size() + gap.size(), kBlock);
  };
  // Zeros at the image's end are given up only where their room is needed.
  if (vbmeta_place() + behind > stock.size()) trailer = without_zeros(trailer);
  const std::uint64_t vbmeta_at = vbmeta_place();
  if (vbmeta_at + behind > stock.size())
    return fail(does_not_fit(vbmeta_at + behind, stock.size(), "with its verified-boot footer"));
  Image bare = image;
  bare.set_tail({});
  Bytes content = bare.write();
  append(content, trailer);

  const Blob old(to_bytes(stock.subspan(footer.vbmeta_offset, footer.vbmeta_size)));
  WEXLO_TRY(Image vbmeta, parse_vbmeta(old));
  if (flags) WEXLO_CHECK(vbmeta.set_number("flags", *flags));
  WEXLO_CHECK(renew_hash(vbmeta, content, stock, boot::partition_kind(image), notes));

  Bytes tail = to_bytes(trailer);
  append(tail, gap);
  tail.resize(stock.size() - sections_end);
  std::ranges::copy(vbmeta.write(),
                    tail.begin() + static_cast<std::ptrdiff_t>(vbmeta_at - sections_end));
  const auto footer_at = tail.end() - static_cast<std::ptrdiff_t>(kFooterSize);
  std::ranges::copy(stock.last(kFooterSize), footer_at);
  std::byte* fields = tail.data() + tail.size() - kFooterSize;
  store<std::uint64_t, std::endian::big>(fields + kOriginalSizeAt, content.size());
  store<std::uint64_t, std::endian::big>(fields + kVbmetaOffsetAt, vbmeta_at);
  return tail;
}

}  // namespace

bool is_older_signature_renewed(const Image& stock, View bytes) {
  const View tail = bytes.last(stock.tail().size());
  if (!stock.prefix().empty() || !has_older_signature(tail)) return false;
  const auto footer = find_footer(bytes);
  if (!footer || *footer) return false;
  const auto found = older_signature(tail, bytes.first(bytes.size() - tail.size()));
  return found && found->holds;
}

Result<std::vector<Remark>> rebuild_tail(Image& image, View stock,
                                         std::optional<std::uint32_t> flags) {
  std::vector<Remark> notes;
  WEXLO_TRY(const auto footer, find_footer(stock));
  const std::uint64_t stock_end = stock.size() - image.tail().size();
  const auto stale = [&](bool is, std::string_view what) {
    if (is) notes.emplace_back(fmt::format("{} is stale now: an unlocked phone goes on.", what));
  };
  const bool is_renewed = is_older_signature_renewed(image, stock);
  Bytes renewed;
  if (is_renewed) {
    renewed = to_bytes(stock);
    WEXLO_CHECK(renew_older_signature(image, renewed, notes));
    stock = View(renewed);
  }
  stale(!is_renewed && has_older_signature(image.tail().view()),
        "The older boot signature behind the image");
  const Section* signature = image.section("boot_signature");
  stale(signature != nullptr && !signature->bytes.empty(), "The boot signature section");
  const auto refresh_prefix = [&] {
    if (std::string note = prefix::refresh(image, stock, stock_end); !note.empty())
      notes.emplace_back(std::move(note));
  };
  if (!footer) {
    WEXLO_TRY(Bytes tail, plain_tail(image, stock));
    image.set_tail(Blob(std::move(tail)));
    refresh_prefix();
    renew_sealed_block(image, stock, stock_end, stock_end);
    return notes;
  }
  refresh_prefix();  // the footer's digest is over it
  const auto partition = static_cast<std::size_t>(footer->end);
  WEXLO_TRY(Bytes tail,
            footed_tail(image, stock.first(partition), stock_end, *footer, flags, notes));
  append(tail, stock.subspan(partition));
  image.set_tail(Blob(std::move(tail)));
  renew_sealed_block(image, stock, stock_end, footer->end);
  return notes;
}

}  // namespace wexlo::verified
