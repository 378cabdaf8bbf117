#include "kit/folder/kit_draft.hpp"

namespace wexlo {
namespace {

using Written = std::map<std::string, KitFile>;

void fill(KitFile& file, const Written& written) {
  if (const auto at = written.find(file.file); at != written.end()) file = at->second;
}

void fill(KitContent& content, const Written& written) {
  if (const auto at = written.find(content.file); at != written.end()) {
    content.size = at->second.size;
    content.sha256 = at->second.sha256;
  }
  for (KitFile& piece : content.pieces)
    fill(piece, written);
}

}  // namespace

KitManifest manifest_of(const KitDraft& draft, std::vector<KitRecipe> recipes, KitFile plan,
                        std::vector<KitFile> files) {
  KitManifest out{.device = draft.build.device,
                  .build = draft.build.fingerprint,
                  .patch_level = draft.build.patch_level,
                  .firmware = draft.firmware,
                  .purpose = draft.purpose,
                  .way = draft.shape.way,
                  .slotted = draft.shape.slotted,
                  .target = draft.target,
                  .images = draft.images,
                  .verdict = draft.judged.verdict,
                  .key = draft.layout.key,
                  .recipes = std::move(recipes),
                  .settings = draft.settings,
                  .making = draft.making,
                  .chain = draft.chain,
                  .super = {},
                  .plan = std::move(plan),
                  .files = std::move(files)};
  out.making.given = draft.layout.given;
  if (!draft.super.rooms.empty()) out.super = draft.super;
  return out;
}

void fill_in(KitDraft& draft, const Written& written) {
  for (KitImage& image : draft.images) {
    fill(image.flash, written);
    fill(image.stock_files, written);
  }
  for (auto& [partition, files] : draft.layout.contents)
    for (KitFile& file : files)
      fill(file, written);
  fill(draft.layout.install, written);
  fill(draft.layout.key, written);
  fill_in(draft.plan, written);
}

}  // namespace wexlo
