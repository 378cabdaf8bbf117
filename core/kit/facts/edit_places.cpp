#include "kit/facts/edit_places.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/contains.hpp"
#include "firmware/top_struct.hpp"

namespace wexlo {
namespace {

/// The partitions that an edit without one is for.
/// @param flags_at  the partition with the chain's flags; empty: there is none
std::vector<std::string> homes_of(Home home, const std::string& target, const StockImages& stock,
                                  const std::string& flags_at) {
  const auto present = [&](const std::vector<std::string_view>& names) {
    std::vector<std::string> out;
    for (const std::string_view name : names)
      if (stock.has(std::string(name))) out.emplace_back(name);
    return out;
  };
  const auto first_present = [&](const std::vector<std::string_view>& names) {
    std::vector<std::string> out = present(names);
    out.resize(std::min<std::size_t>(out.size(), 1));
    return out;
  };
  switch (home) {
    case Home::StartRamdisk:
    case Home::Header: return {target};
    case Home::VendorRamdisk:
    case Home::Bootconfig: return present({"vendor_boot"});
    case Home::RecoveryRamdisk:
      // Its own partition, else where newer phones have it as a fragment, else in boot.
      if (stock.has("recovery")) return {"recovery"};
      if (stock.has("recovery_ramdisk")) return {"recovery_ramdisk"};
      return present({"vendor_boot", "boot"});
    case Home::Mounts: {
      auto out = present({"vendor_boot", "vendor_kernel_boot", "dtb", "dtbo"});
      out.push_back(target);
      if (target != "init_boot" && target != "boot" && stock.has("boot")) out.emplace_back("boot");
      return out;
    }
    case Home::Cmdline:
      // Newer phones have most of it in vendor_boot; both are joined.
      if (stock.has("vendor_boot")) return {"vendor_boot"};
      return first_present(kernel_partitions());
    case Home::Kernel: return first_present(kernel_partitions());
    case Home::Trees: return present(tree_partitions());
    case Home::Vbmeta: return present({flags_at});
  }
  return {};
}

/// The partition whose struct has the chain's flags, where an edit asks for it; empty: none has.
Result<std::string> flags_place(const std::vector<Recipe>& recipes, StockImages& stock,
                                const Context& context) {
  const auto asks = [](const Recipe& recipe) {
    return contains(recipe.edits, Home::Vbmeta, &Edit::home);
  };
  if (stock.has("vbmeta") || std::ranges::none_of(recipes, asks)) return "vbmeta";
  WEXLO_TRY(const auto top, top_struct(stock, context));
  return top ? std::string(top->partition) : "";
}

Status no_place(const Edit& edit, const StockImages& stock) {
  if (edit.may_miss || !edit.when.empty()) return {};
  const std::string wanted =
      edit.partition.empty() ? std::string(home_name(edit.home)) : "partition " + edit.partition;
  return fail({.code = ErrorCode::NoMatch,
               .message = fmt::format("recipe {}: \"{}\" acts on {}, which this firmware does not "
                                      "have",
                                      edit.recipe, edit.summary(), wanted),
               .file = stock.where(),
               .hint = "wexlo inspect lists the partitions."});
}

}  // namespace

Result<EditPlaces> places_of(const std::vector<Recipe>& recipes, const std::string& target,
                             StockImages& stock, const Context& context) {
  EditPlaces out;
  std::set<std::string> names;
  WEXLO_TRY(const std::string flags_at, flags_place(recipes, stock, context));
  for (const Recipe& recipe : recipes) {
    for (const Edit& edit : recipe.edits) {
      const auto places = edit.partition.empty()      ? homes_of(edit.home, target, stock, flags_at)
                          : stock.has(edit.partition) ? std::vector{edit.partition}
                                                      : std::vector<std::string>{};
      if (places.empty()) WEXLO_CHECK(no_place(edit, stock));
      for (const std::string& place : places) {
        names.insert(place);
        if (edit.partition.empty()) out.homes[place].insert(edit.home);
      }
    }
  }
  names.erase(target);
  names.erase("vbmeta");
  out.partitions = {target};
  out.partitions.insert(out.partitions.end(), names.begin(), names.end());
  if (stock.has("vbmeta")) out.partitions.emplace_back("vbmeta");
  return out;
}

}  // namespace wexlo
