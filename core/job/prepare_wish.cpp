#include "job/prepare_wish.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "kit/folder/kit.hpp"
#include "seal/signing.hpp"

namespace wexlo {
namespace {

Status check(const PrepareWish& wish) {
  const bool recipes = !wish.recipes.empty();
  if (wish.stock ? !recipes : wish.like.empty() == recipes) return {};
  return fail(
      {.code = ErrorCode::Usage,
       .message = wish.stock          ? "--stock puts stock images back: no recipe"
                  : wish.like.empty() ? "prepare needs a recipe"
                                      : "--like brings the recipes of its kit",
       .hint = recipes
                   ? fmt::format("Leave out -r, or {}.", wish.stock ? "--stock" : "--like")
                   : std::string("Add -r RECIPE, or --like KIT for the recipes of an older kit, or "
                                 "--stock for none.")});
}

/// What a kit of stock images puts back again: what it had of the boot chain.
std::vector<std::string> stock_partitions(const KitManifest& kit) {
  std::vector<std::string> out;
  for (const KitImage& image : kit.images)
    if (image.made != Made::Given ||
        partition_class(without_slot(image.partition)) != PartitionClass::Other)
      out.push_back(image.partition);
  return out;
}

/// The recipes and settings of an older kit.
Status take_kit(const PrepareWish& wish, PrepareOptions& out, std::vector<Finding>& findings) {
  WEXLO_TRY(const Kit kit, Kit::open(wish.like));
  const KitManifest& manifest = kit.manifest();
  out.older.build = manifest.build;
  out.older.device = manifest.device;
  for (const KitImage& image : manifest.images)
    if (!image.stock_files.file.empty())
      out.older.stock.emplace(image.partition, image.stock_files.sha256);
  if (wish.stock) {
    out.stock_of = stock_partitions(manifest);
    return {};
  }
  WEXLO_TRY(out.recipes, kit.recipes(wish.settings));
  out.older.chain = manifest.chain;
  out.patch.told.insert(manifest.settings.told.begin(), manifest.settings.told.end());
  out.wipe |= manifest.settings.wipe;
  if (!out.slots) out.slots = manifest.settings.slots;
  const bool gave = std::ranges::any_of(
      manifest.images, [](const KitImage& one) { return one.made == Made::Given; });
  if (gave && wish.given.empty())
    findings.push_back({Level::Note, FindingCode::LikeWithoutGiven,
                        "The older kit wrote images that were given then: they are not taken "
                        "over. Give those of the new build with --with.",
                        wish.like});
  return {};
}

}  // namespace

Result<PrepareOptions> options_of(const PrepareWish& wish, std::vector<Finding>& findings,
                                  const Context& context) {
  WEXLO_CHECK(check(wish));
  PrepareOptions out{.wipe = wish.wipe};
  out.patch.onto_foreign = wish.onto_foreign;
  out.patch.allow_programs = wish.allow_programs;
  out.given = wish.given;
  out.accept = wish.accept;
  out.stock = wish.stock;
  out.whole = wish.whole;
  out.base = wish.base;
  out.technician = wish.technician;
  out.inputs = wish.recipes;
  out.inputs.insert(out.inputs.end(),
                    {wish.firmware, wish.like, wish.sheet, wish.key, wish.signer, wish.base});
  for (const GivenFile& one : wish.given)
    out.inputs.push_back(one.file);
  if (!wish.sheet.empty()) {
    WEXLO_TRY(out.sheet, read_sheet(wish.sheet));
  }
  out.slots = wish.slots;
  WEXLO_TRY(out.patch.told, told_of_phone(wish.settings));
  if (!wish.like.empty()) {
    WEXLO_CHECK(take_kit(wish, out, findings));
  } else if (!wish.stock) {
    WEXLO_TRY(out.recipes, load_recipes(wish.recipes, wish.settings));
  }
  WEXLO_TRY(out.signer, find_signer(wish.key, wish.signer, context, findings));
  return out;
}

}  // namespace wexlo
