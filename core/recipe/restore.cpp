#include "recipe/restore.hpp"

#include <fmt/format.h>

#include <array>

#include "base/digest.hpp"
#include "base/source.hpp"
#include "image/boot.hpp"
#include "image/fragments.hpp"
#include "ramdisk/layout.hpp"
#include "recipe/patch.hpp"
#include "recipe/way_back.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {
namespace {

/// The recovery program in an image's ramdisks; nullopt: there is none.
std::optional<Bytes> recovery_in(const LoadedImage& image, const Context& context) {
  const auto ramdisks = image.decoded->ramdisks(context);
  if (!ramdisks) return std::nullopt;
  for (const auto& [part, ramdisk, trouble] : **ramdisks) {
    if (!ramdisk) continue;
    for (const char* place : {"system/bin/recovery", "sbin/recovery"})
      if (const auto at = resolve(*ramdisk, place))
        return to_bytes(content_of(*ramdisk, *at).view());
  }
  return std::nullopt;
}

class Restoration {
 public:
  Restoration(const LoadedImage& patched, const RestoreOptions& options, const Context& context)
      : patched_(patched), options_(options), context_(context) {}

  Result<Restored> run() {
    if (!patched_.image)
      return fail({.code = ErrorCode::Unsupported,
                   .message = fmt::format("an image of kind {} is none that Wexlo patches",
                                          patched_.format->kind)});
    out_.partition = partition_of(patched_);
    WEXLO_TRY(const auto journal, find_journal(patched_, context_));
    if (journal)
      for (const JournalEdit& edit : journal->edits)
        out_.undone.push_back(fmt::format("{}: {}", edit.recipe, edit.summary));
    if (!options_.stock.empty()) {
      WEXLO_CHECK(from_copy(journal));
    } else if (journal) {
      WEXLO_TRY(out_.bytes, follow_way_back(patched_, *journal, context_));
      out_.from = RestoredFrom::Image;
      out_.proof = "its SHA-256 is the one that the journal recorded";
    } else if (patched_.image->kind() == "vbmeta") {
      WEXLO_CHECK(from_signature());
    } else {
      return fail({.code = ErrorCode::NoWayBack,
                   .message = "the image carries no journal: Wexlo did not patch it, or it has no "
                              "ramdisk to carry one in",
                   .hint = "If a kit was made of it: --stock KIT/stock/NAME.img."});
    }
    out_.sha256 = sha256_hex(out_.bytes);
    if (journal && !journal->foreign.empty())
      out_.notes.emplace_back(
          "The image was patched on top of another tool's patch: what came back is that image, "
          "not stock.");
    WEXLO_CHECK(look_at_recovery());
    return std::move(out_);
  }

 private:
  Status from_copy(const std::optional<Journal>& journal) {
    WEXLO_TRY(const SourcePtr source, open_file(options_.stock));
    WEXLO_TRY(out_.bytes, read_all(*source, kMaxImage));
    const std::string found = sha256_hex(out_.bytes);
    std::string wanted;
    if (journal) {
      wanted = journal->stock_sha256;
      out_.proof = "its SHA-256 is the one that the journal recorded";
    } else {
      if (options_.recorded) {
        WEXLO_TRY(wanted, options_.recorded(sha256_hex(patched_.bytes)));
      }
      out_.proof = "its SHA-256 is the one that the kit recorded for this patched image";
    }
    if (wanted.empty()) return unrecorded();
    if (found != wanted)
      return fail({.code = ErrorCode::DigestMismatch,
                   .message = "the copy is not the stock image that this one was made from",
                   .file = options_.stock.string(),
                   .expected = wanted,
                   .found = found,
                   .hint = "Take the copy of the same kit, or the same build's image."});
    out_.from = RestoredFrom::StockCopy;
    return {};
  }

  /// An image without a ramdisk has no journal, and without a kit nothing recorded what it was made
  /// from. A copy is believed for what it shows itself: an image of the same partition and form, as
  /// its maker sealed it. That it is this very build's nobody can tell, and that is said.
  Status unrecorded() {
    const auto refuse = [&](std::string why) {
      return fail(
          {.code = ErrorCode::NoWayBack,
           .message = "nothing tells which stock image this one was made from, and the copy "
                      "does not show that it is one: " +
                      std::move(why),
           .file = options_.stock.string(),
           .hint = "If you are sure of the copy, it is the stock image: flash it as it "
                   "is."});
    };
    if (!boot::ramdisk_parts(*patched_.image).empty())
      return refuse(
          "an image with a ramdisk that Wexlo patched carries a journal, this one has "
          "none");
    WEXLO_TRY(const LoadedImage copy, load_image(out_.bytes, options_.stock.string()));
    if (!copy.image || copy.image->kind() != patched_.image->kind() ||
        copy.image->layout().version != patched_.image->layout().version)
      return refuse("it is of another kind");
    if (partition_of(copy) != out_.partition)
      return refuse(fmt::format("it is for {}", partition_of(copy)));
    WEXLO_TRY(const auto sealed, verified::own_digest_matches(copy.bytes.view()));
    const bool true_to_itself = sealed ? *sealed
                                : copy.image->kind() == "vbmeta"
                                    ? verified::own_hash_matches(*copy.image).value_or(false)
                                    : boot::id_matches(*copy.image).value_or(false);
    if (!true_to_itself) return refuse("no digest in it covers its own bytes and matches");
    if (sealed && copy.bytes.size() != patched_.bytes.size())
      return refuse(fmt::format("it has {} bytes, the patched image {}", copy.bytes.size(),
                                patched_.bytes.size()));
    out_.from = RestoredFrom::StockCopy;
    out_.proof = "it is of the same partition and form, and its own digest matches";
    out_.notes.emplace_back(
        "Nothing recorded which stock image this one was made from: that the copy is of the same "
        "build is for you to know.");
    return {};
  }

  /// The flags under which the struct's own hash matches, and so its signature is valid.
  Status from_signature() {
    WEXLO_TRY(out_.bytes, flags_as_signed(*patched_.image));
    WEXLO_TRY(const LoadedImage vbmeta, load_image(out_.bytes, "the restored image"));
    const std::uint64_t now = patched_.image->number("flags"),
                        flags = vbmeta.image->number("flags");
    out_.from = RestoredFrom::Signature;
    out_.proof = fmt::format("with flags {} the hash that its signature covers matches", flags);
    out_.undone.push_back(fmt::format("vbmeta flags {} -> {}", now, flags));
    out_.notes.emplace_back(
        "This is the vbmeta as its signer left it. If the image that was patched had other flags "
        "already, its own copy is the way back to that one: --stock FILE.");
    return {};
  }

  /// Putting stock boot back takes a recovery that is not stock with it.
  Status look_at_recovery() {
    WEXLO_TRY(const LoadedImage stock, load_image(out_.bytes, "the stock image"));
    if (!stock.image) return {};
    const auto now = recovery_in(patched_, context_);
    if (now && now != recovery_in(stock, context_))
      out_.notes.emplace_back(
          "The patched image holds another recovery than the stock one: putting the stock image "
          "back removes it.");
    return {};
  }

  const LoadedImage& patched_;
  const RestoreOptions& options_;
  const Context& context_;
  Restored out_;
};

}  // namespace

std::string_view restored_name(RestoredFrom from) {
  constexpr std::array<std::string_view, 3> kNames{"image", "stock-copy", "signature"};
  return kNames[static_cast<std::size_t>(from)];
}

Result<Restored> restore_image(const LoadedImage& patched, const RestoreOptions& options,
                               const Context& context) {
  return Restoration(patched, options, context).run();
}

}  // namespace wexlo
