/// Bad blocks given again by the error correction beside a hash tree.

#include "check/check.hpp"
#include "kit/folder/kit.hpp"
#include "verified/draft.hpp"

namespace wexlo {
namespace {

/// The hash tree descriptor of a partition: of the chain, else of its own footer.
Result<std::optional<verified::HashtreeDescriptor>> tree_of(const PhoneSet& set,
                                                            const PhoneSet::Member& member,
                                                            const std::string& suffix,
                                                            const Context& context) {
  std::string bare = member.name;
  if (!suffix.empty() && bare.ends_with(suffix)) bare.resize(bare.size() - suffix.size());
  const auto in =
      [&](const Source& source,
          std::string_view name) -> Result<std::optional<verified::HashtreeDescriptor>> {
    WEXLO_TRY(const auto place, verified::find_struct(source, name));
    if (!place) return std::nullopt;
    WEXLO_TRY(Bytes raw, read_some(source, place->offset, place->size));
    const auto vbmeta = verified::parse_vbmeta(Blob(std::move(raw)));
    const auto all =
        vbmeta ? verified::descriptors(*vbmeta) : Result<std::vector<verified::Descriptor>>{};
    for (const verified::Descriptor& one : all ? *all : std::vector<verified::Descriptor>{})
      if (const auto* tree = std::get_if<verified::HashtreeDescriptor>(&one.value))
        if (tree->partition == bare) return *tree;
    return std::nullopt;
  };
  // A signed struct knows better than the image itself.
  for (const PhoneSet::Member& one : set.members()) {
    if (!is_vbmeta(one.name)) continue;
    WEXLO_TRY(const SourcePtr source, set.source(one, context));
    WEXLO_TRY(auto found, in(*source, one.name));
    if (found) return found;
  }
  WEXLO_TRY(const SourcePtr source, set.source(member, context));
  return in(*source, member.name);
}

}  // namespace

Result<std::vector<RepairedImage>> repair_images(const std::vector<std::string>& paths,
                                                 const CheckOptions& options,
                                                 const Context& context) {
  PhoneSet set;
  if (!options.against.empty()) WEXLO_CHECK(set.add(images_of(options.against), context));
  for (const std::string& path : paths)
    WEXLO_CHECK(set.add(images_of(path), context));
  std::string other;
  const std::string suffix = set.suffix(options.slot, other);
  std::vector<RepairedImage> out;
  for (const PhoneSet::Member& member : set.members()) {
    if (member.size == 0 || (!slot_suffix(member.name).empty() && !suffix.empty() &&
                             slot_suffix(member.name) != suffix))
      continue;
    WEXLO_TRY(const auto tree, tree_of(set, member, suffix, context));
    if (!tree || tree->fec_num_roots == 0) continue;
    WEXLO_TRY(const SourcePtr source, set.source(member, context));
    WEXLO_TRY(const verified::TreeCheck found, verified::check_tree(*source, *tree, context));
    if (found.holds()) continue;
    auto blocks = verified::repair_blocks(*source, *tree, found, context);
    if (!blocks) return fail(in_file(std::move(blocks).error(), member.name));
    out.push_back({member.name, source, std::move(*blocks)});
  }
  if (!out.empty()) return out;
  return fail({.code = ErrorCode::NoMatch,
               .message = "there is nothing to repair",
               .hint = "No hash tree that has error correction beside it has a bad block."});
}

}  // namespace wexlo
