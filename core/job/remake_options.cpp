#include "job/remake_options.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/version.hpp"
#include "kit/folder/kit_folder.hpp"
#include "verified/kept_signer.hpp"

namespace wexlo {
namespace {

class KitOptions {
 public:
  KitOptions(const Kit& kit, const std::string& key, const Context& context)
      : kit_(kit), manifest_(kit.manifest()), key_(key), context_(context) {}

  Result<PrepareOptions> run() {
    WEXLO_CHECK(says_how());
    take_settings();
    if (manifest_.purpose != Purpose::Restore) {
      WEXLO_TRY(out_.recipes, kit_.recipes({}));
    }
    WEXLO_TRY(out_.sheet, kit_.sheet(context_));
    for (const KitGiven& one : manifest_.making.given)
      WEXLO_CHECK(take_given(one));
    WEXLO_CHECK(take_key());
    return std::move(out_);
  }

 private:
  Status says_how() const {
    if (!manifest_.making.version.empty() && manifest_.recipes) return {};
    return fail({.code = ErrorCode::Unsupported,
                 .message = "this kit does not keep how it was made",
                 .file = (kit_.folder() / kKitManifest).string(),
                 .expected = "\"made\", as Wexlo " + std::string(version()) + " writes it",
                 .found = "a kit of an older version of Wexlo",
                 .hint = "Make the kit anew: wexlo prepare FIRMWARE --like KIT -o NEW."});
  }

  void take_settings() {
    const KitMaking& made = manifest_.making;
    const KitSettings& settings = manifest_.settings;
    out_.slots = settings.slots;
    out_.wipe = settings.wipe;
    out_.patch = {.told = settings.told, .onto_foreign = made.onto_foreign};
    out_.accept = settings.accepted;
    out_.technician = settings.technician;
    out_.rehearse = made.rehearsed;
    out_.whole = made.whole;
    out_.stock = manifest_.purpose == Purpose::Restore;
    out_.stock_of = made.put_back;
    out_.older = made.older;
    out_.before = MadeBefore{made.version, manifest_.firmware, made.package};
  }

  Status take_given(const KitGiven& given) {
    BuildFacts build;
    build.fingerprint = given.build;
    build.patch_level = given.patch_level;
    build.device = given.device;
    GivenFile file{given.partition, {}, GivenBefore{given.name, given.size, std::move(build)}};
    if (!given.file.empty()) {
      WEXLO_TRY(const auto path, kit_.unchanged(given.file, context_));
      file.file = path.string();
    } else {
      const KitImage* image = find_image(manifest_.images, given.partition);
      for (const KitFile& piece : image == nullptr ? std::vector<KitFile>() : image->flash.pieces)
        WEXLO_CHECK(kit_.unchanged(piece.file, context_));
      // The folder puts the pieces together.
      file.file = (kit_.folder() / "flash").string();
    }
    out_.given.push_back(std::move(file));
    return {};
  }

  Status take_key() {
    const std::string& wanted = manifest_.making.key_sha256;
    if (wanted.empty()) return {};
    // A public key is asked for by other parts of the same command: it signs nothing.
    if (auto signer = key_.empty() ? fail({}) : verified::load_signer(key_); signer) {
      if (sha256_hex((*signer)->public_key()) == wanted) {
        out_.signer = *signer;
        return {};
      }
    }
    WEXLO_TRY(const std::vector<Image> structs, structs_of_kit());
    out_.signer = verified::kept_signer(structs, wanted);
    if (out_.signer) return {};
    return fail({.code = ErrorCode::BadSignature,
                 .message = "no image of the kit has the key that it was signed with",
                 .file = (kit_.folder() / "flash").string(),
                 .expected = "a struct with the public key " + wanted,
                 .hint = "Give the private key: --key KEY."});
  }

  /// The structs of what the kit writes. What does not read has no signature to give.
  Result<std::vector<Image>> structs_of_kit() const {
    constexpr std::uint64_t kMost = 256u << 20;
    std::vector<Image> out;
    for (const KitImage& image : manifest_.images) {
      if (image.flash.file.empty() || image.flash.size > kMost) continue;
      WEXLO_TRY(const SourcePtr source, kit_.file(image.flash.file));
      if (source->size() > kMost) continue;
      WEXLO_TRY(const Blob bytes, read_all(*source, kMost));
      auto own = verified::own_struct(bytes.view());
      if (own && *own) {
        out.push_back(std::move(**own));
      } else if (auto whole = verified::parse_vbmeta(bytes); whole) {
        out.push_back(std::move(*whole));
      }
    }
    return out;
  }

  const Kit& kit_;
  const KitManifest& manifest_;
  const std::string& key_;
  const Context& context_;
  PrepareOptions out_;
};

}  // namespace

Result<PrepareOptions> options_of_kit(const Kit& kit, const std::string& key,
                                      const Context& context) {
  return KitOptions(kit, key, context).run();
}

}  // namespace wexlo
