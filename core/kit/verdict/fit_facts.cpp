#include "kit/verdict/fit_facts.hpp"

#include <algorithm>

namespace wexlo {
namespace {

/// Of a boot or vendor_boot header; nullopt: another kind of image.
std::optional<unsigned> header_version(const LoadedImage* image) {
  if (image == nullptr || !image->image) return std::nullopt;
  const std::string_view kind = image->image->kind();
  if (kind != "boot" && kind != "vendor_boot") return std::nullopt;
  return image->image->layout().version;
}

/// The kernel's sibling tells; any image with a boot header will do.
std::optional<unsigned> boot_header_version(const StockImages& stock) {
  for (const PartitionRow& row : partition_rows())
    if (const auto at = stock.read().find(std::string(row.name));
        row.image == "boot" && at != stock.read().end())
      if (const auto version = header_version(&at->second)) return version;
  return std::nullopt;
}

std::vector<std::string> chain_of(const StockImages& stock) {
  std::vector<std::string> out;
  for (const std::string_view name : ramdisk_partitions(RamdiskOrder::Told))
    if (stock.has(std::string(name))) out.emplace_back(name);
  if (stock.has("vbmeta")) out.emplace_back("vbmeta");
  return out;
}

Result<FitGiven> row_of(StockImages& stock, const Given& given, const Context& context) {
  FitGiven out = fit_given(given);
  if (given.partition.empty()) {
    // A package that brings what the kit changes has to be the one that was patched.
    out.of_the_build =
        std::ranges::any_of(given.firmware->partitions, [](const PartitionFacts& one) {
          const std::string_view name = without_slot(one.name);
          return name == "boot" || name == "init_boot";
        });
    return out;
  }
  out.header_version = given.header_version;
  if (out.header_version && stock.has(given.partition)) {
    WEXLO_TRY(const LoadedImage* const own, stock.get(given.partition, context));
    out.wanted_version = header_version(own);
  }
  return out;
}

/// Without a sheet there is no phone to hold the firmware against.
bool needs_no_sheet(const FitRow& row) {
  switch (row.id.code) {
    case FindingCode::FitRecipeNeeds:
    case FindingCode::FitGivenArchitecture:
    case FindingCode::FitGivenSlots:
    case FindingCode::FitGivenDevice:
    case FindingCode::FitGivenHeader:
    case FindingCode::FitGivenBuild:
    case FindingCode::FitGivenPatchLevel: return true;
    default: return false;
  }
}

}  // namespace

Result<FitResult> judge_fit(const FitInput& input, const Context& context) {
  FitResult out;
  StockImages& stock = input.stock;
  const BuildFacts& build = stock.firmware().build;
  FitFacts facts{.purpose = input.purpose,
                 .device = build.device,
                 .build = build.fingerprint,
                 .incremental = build.incremental,
                 .patch_level = build.patch_level,
                 .region = build.region,
                 .sdk = build.sdk_level,
                 .demands = build.demands,
                 .needs = {},
                 .architecture = input.phone.architecture.empty() ? input.phone.kernel_architecture
                                                                  : input.phone.architecture,
                 .slotted = input.shape.slotted,
                 .rollback = {},
                 .anti_rollback = build.anti_rollback,
                 .model = build.model,
                 .binary = build.binary,
                 .header_version = boot_header_version(stock),
                 .chain = chain_of(stock),
                 .both_slots = input.slots == Slots::Both,
                 .images = input.images,
                 .given = {}};
  if (input.sheet != nullptr)
    WEXLO_CHECK(take_rollback(stock.firmware(), facts, out.findings, context));
  for (const Recipe& recipe : input.recipes)
    if (!recipe.phone_needs.empty()) facts.needs.emplace_back(recipe.name, recipe.phone_needs);
  for (const Given& one : input.given) {
    WEXLO_TRY(FitGiven row, row_of(stock, one, context));
    facts.given.push_back(std::move(row));
  }
  if (input.install) {
    WEXLO_TRY(FitGiven row, row_of(stock, *input.install, context));
    facts.given.push_back(std::move(row));
  }
  static const Sheet kNone;
  out.rows = fit(facts, input.sheet == nullptr ? kNone : *input.sheet, input.accept);
  if (input.sheet == nullptr)
    std::erase_if(out.rows, [](const FitRow& row) { return !needs_no_sheet(row); });
  return out;
}

}  // namespace wexlo
