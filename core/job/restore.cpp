#include "job/restore.hpp"

#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/digest.hpp"
#include "base/source.hpp"
#include "image/fragments.hpp"
#include "ramdisk/layout.hpp"
#include "recipe/way_back.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

constexpr std::uint64_t kMaxKitManifest = 16u << 20;

/// The recovery program in an image's ramdisks; nullopt: there is none.
std::optional<Bytes> recovery_in(const Image& image, const Context& context) {
  for (const boot::RamdiskPart& part : boot::ramdisk_parts(image)) {
    const auto ramdisk = parse_ramdisk(part.bytes, decode_limit(context));
    if (!ramdisk) continue;
    for (const char* place : {"system/bin/recovery", "sbin/recovery"})
      if (const auto at = resolve(*ramdisk, place))
        return to_bytes(content_of(*ramdisk, *at).view());
  }
  return std::nullopt;
}

/// What a kit wrote down of an image: the stock image's digest for the patched one's. The kit is
/// looked for around the stock copy and around the patched image.
std::optional<std::string> recorded_in_kit(const fs::path& near, const std::string& patched) {
  const auto manifest = open_file(near.parent_path().parent_path() / "kit.json");
  const auto text = manifest ? read_all(**manifest, kMaxKitManifest)
                             : Result<Blob>(fail({.code = ErrorCode::NotFound}));
  if (!text) return std::nullopt;
  const auto kit = nlohmann::json::parse(as_text(text->view()), nullptr, false);
  if (!kit.is_object() || !kit.contains("images") || !kit["images"].is_array()) return std::nullopt;
  for (const auto& image : kit["images"]) {
    const auto digest = [&](const char* which) {
      const auto side = image.is_object() ? image.find(which) : image.end();
      return side == image.end() || !side->is_object() ? std::string()
                                                       : side->value("sha256", std::string());
    };
    if (image.is_object() && digest("flash") == patched && !digest("stock").empty())
      return digest("stock");
  }
  return std::nullopt;
}

class Restoration {
 public:
  Restoration(const LoadedImage& patched, const fs::path& path, const RestoreOptions& options,
              const Context& context)
      : patched_(patched), path_(path), options_(options), context_(context) {}

  Result<Restored> run() {
    if (!patched_.image)
      return fail({.code = ErrorCode::Unsupported,
                   .message = fmt::format("an image of kind {} is none that Wexlo patches",
                                          patched_.format->kind)});
    out_.partition = partition_of(patched_);
    WEXLO_TRY(const auto journal, find_journal(*patched_.image, context_));
    if (journal)
      for (const JournalEdit& edit : journal->edits)
        out_.undone.push_back(fmt::format("{}: {}", edit.recipe, edit.summary));
    if (!options_.stock.empty()) {
      WEXLO_CHECK(from_copy(journal));
    } else if (journal) {
      WEXLO_TRY(out_.bytes, follow_way_back(patched_, *journal, context_));
      out_.from = "image";
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
          "The image was patched on top of another hand's patch: what came back is that image, "
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
      const std::string patched = sha256_hex(patched_.bytes);
      for (const fs::path& near : {fs::absolute(options_.stock), fs::absolute(path_)})
        if (wanted.empty()) wanted = recorded_in_kit(near, patched).value_or("");
      out_.proof = "its SHA-256 is the one that the kit recorded for this patched image";
    }
    if (wanted.empty())
      return fail({.code = ErrorCode::NoWayBack,
                   .message = "nothing tells which stock image this one was made from: it carries "
                              "no journal, and no kit beside the copy knows it",
                   .file = path_.string(),
                   .hint = "If you are sure of the copy, it is the stock image: flash it as it "
                           "is."});
    if (found != wanted)
      return fail({.code = ErrorCode::DigestMismatch,
                   .message = "the copy is not the stock image that this one was made from",
                   .file = options_.stock.string(),
                   .expected = wanted,
                   .found = found,
                   .hint = "Take the copy of the same kit, or the same build's image."});
    out_.from = "stock-copy";
    return {};
  }

  /// The flags under which the struct's own hash, and so its signature, is true.
  Status from_signature() {
    Image vbmeta = *patched_.image;
    const std::uint64_t known = verified::HashtreeDisabled | verified::VerificationDisabled;
    const std::uint64_t now = vbmeta.number("flags");
    if (verified::own_hash_matches(vbmeta).value_or(false))
      return fail({.code = ErrorCode::NoWayBack,
                   .message = "the vbmeta's own hash is true: its flags are as they were signed",
                   .hint = "There is nothing to restore."});
    for (std::uint64_t flags = 0; flags <= known; ++flags) {
      WEXLO_CHECK(vbmeta.set_number("flags", (now & ~known) | flags));
      if (!verified::own_hash_matches(vbmeta).value_or(false)) continue;
      out_.bytes = Blob(vbmeta.write());
      out_.from = "signature";
      out_.proof = fmt::format("with flags {} the hash that its signature covers is true", flags);
      out_.undone.push_back(fmt::format("vbmeta flags {} -> {}", now, (now & ~known) | flags));
      return {};
    }
    return fail(
        {.code = ErrorCode::NoWayBack,
         .message = vbmeta.number("algorithm_type") == 0
                        ? "the vbmeta is not signed: nothing in it tells the flags it had"
                        : "with no setting of its flags is the vbmeta's own hash true: more "
                          "than its flags was changed",
         .hint = "Give the stock image: --stock FILE (a kit keeps it in stock/)."});
  }

  /// Putting stock boot back takes a recovery of another hand with it.
  Status look_at_recovery() {
    WEXLO_TRY(const LoadedImage stock, load_image(out_.bytes, "the stock image"));
    if (!stock.image) return {};
    const auto now = recovery_in(*patched_.image, context_);
    if (now && now != recovery_in(*stock.image, context_))
      out_.notes.emplace_back(
          "The patched image holds another recovery than the stock one: putting the stock image "
          "back removes it.");
    return {};
  }

  const LoadedImage& patched_;
  fs::path path_;
  const RestoreOptions& options_;
  const Context& context_;
  Restored out_;
};

}  // namespace

Result<Restored> restore_image(const LoadedImage& patched, const fs::path& path,
                               const RestoreOptions& options, const Context& context) {
  return Restoration(patched, path, options, context).run();
}

}  // namespace wexlo
