#include "judge/image_origin.hpp"

#include "image/boot.hpp"

namespace wexlo {
namespace {

bool can_be_judged(const LoadedImage& image) {
  return image.image && (image.image->kind() == "boot" || image.image->kind() == "vendor_boot");
}

}  // namespace

std::vector<OwnDigest> own_digests(const std::optional<FooterInfo>& footer,
                                   const std::optional<VbmetaInfo>& vbmeta,
                                   const std::optional<FooterInfo>& boot_signature,
                                   const std::optional<bool>& id_matches) {
  std::vector<OwnDigest> out;
  const auto add = [&](const std::optional<bool>& matches, std::string what) {
    if (matches) out.push_back({std::move(what), *matches});
  };
  if (footer) {
    add(footer->digest_matches, "the digest in its verified-boot footer");
    add(footer->vbmeta.hash_matches, "the hash that its footer's signature covers");
  }
  if (vbmeta) add(vbmeta->hash_matches, "the hash that its signature covers");
  if (boot_signature) add(boot_signature->digest_matches, "the digest in its boot signature");
  add(id_matches, "the id digest in its header");
  return out;
}

Result<ImageOrigin> origin_of(const LoadedImage& image, const ImageReading& reading,
                              const std::filesystem::path& file) {
  ImageOrigin out;
  if (!can_be_judged(image)) return out;
  WEXLO_TRY(const auto footer, footer_info(image.bytes.view()));
  out.origin =
      judge_origin(*image.image, reading,
                   own_digests(footer, {}, boot_signature_info(*image.image, image.bytes.view()),
                               boot::id_matches(*image.image)),
                   file);
  if (out.origin.word == OriginWord::Altered)
    for (const Sign& sign : out.origin.signs)
      out.foreign.push_back(sign.text);
  return out;
}

Result<ImageOrigin> origin_of(const LoadedImage& image, const std::filesystem::path& file,
                              const Context& context) {
  if (!can_be_judged(image)) return ImageOrigin{};
  WEXLO_TRY(const ImageReading reading, read_ramdisks(image, context));
  return origin_of(image, reading, file);
}

}  // namespace wexlo
