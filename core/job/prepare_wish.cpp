#include "job/prepare_wish.hpp"

#include "seal/signing.hpp"

namespace wexlo {
namespace {

Status check(const PrepareWish& wish) {
  const bool recipes = !wish.recipes.empty();
  if (wish.stock ? !recipes : wish.like.empty() == recipes) return {};
  return fail({.code = ErrorCode::Usage,
               .message = wish.stock          ? "--stock puts stock images back: no recipe"
                          : wish.like.empty() ? "prepare wants a recipe"
                                              : "--like brings the recipes of its kit",
               .hint = "Give -r RECIPE, or --like KIT for the recipes of an older kit, or --stock "
                       "for none."});
}

/// The recipes and settings of an older kit.
Status take_kit(const PrepareWish& wish, PrepareOptions& out, std::string& slots,
                std::vector<Finding>& findings) {
  WEXLO_TRY(OldKit kit, read_old_kit(wish.like, wish.settings));
  out.like_build = kit.build;
  out.like_device = kit.device;
  out.like_stock = std::move(kit.stock);
  if (wish.stock) {
    out.stock_of = std::move(kit.partitions);
    return {};
  }
  out.recipes = std::move(kit.recipes);
  out.before = std::move(kit.facts);
  const auto arch = wish.settings.find("arch");
  out.patch.architecture = arch == wish.settings.end() ? kit.architecture : arch->second;
  out.wipe |= kit.wipe;
  if (slots.empty()) slots = kit.slots;
  if (kit.gave && wish.given.empty())
    findings.push_back({"note", "like-without-given",
                        "The older kit wrote images that were brought along: they are not taken "
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
  out.given = wish.given;
  out.accept = wish.accept;
  out.stock = wish.stock;
  out.inputs = wish.recipes;
  out.inputs.insert(out.inputs.end(),
                    {wish.firmware, wish.like, wish.sheet, wish.key, wish.signer});
  for (const GivenFile& one : wish.given)
    out.inputs.push_back(one.file);
  if (!wish.sheet.empty()) {
    WEXLO_TRY(out.sheet, read_sheet(wish.sheet));
  }
  std::string slots = wish.slots;
  if (!wish.like.empty()) {
    WEXLO_CHECK(take_kit(wish, out, slots, findings));
  } else if (!wish.stock) {
    WEXLO_TRY(out.recipes, load_recipes(wish.recipes, wish.settings));
    if (const auto at = wish.settings.find("arch"); at != wish.settings.end())
      out.patch.architecture = at->second;
  }
  if (slots == "both") out.slots = Slots::Both;
  if (slots == "current") out.slots = Slots::Current;
  WEXLO_TRY(out.signer, find_signer(wish.key, wish.signer, context, findings));
  return out;
}

}  // namespace wexlo
