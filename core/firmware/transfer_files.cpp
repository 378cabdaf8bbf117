#include "firmware/transfer_files.hpp"

#include <algorithm>

#include "codec/unpacked.hpp"
#include "firmware/file_names.hpp"
#include "firmware/listing_index.hpp"
#include "firmware/transfer_list.hpp"

namespace wexlo {

std::vector<TransferFiles> find_transfers(const Bundle& bundle) {
  constexpr std::string_view kEnd = ".transfer.list";
  const auto find = [&](const std::string& path) -> const Item* {
    const auto at = std::ranges::find(bundle.items, path, &Item::path);
    return at == bundle.items.end() ? nullptr : &*at;
  };
  std::vector<TransferFiles> out;
  for (const Item& item : bundle.items) {
    if (!item.path.ends_with(kEnd)) continue;
    const std::string stem = item.path.substr(0, item.path.size() - kEnd.size());
    TransferFiles files{.partition = std::string(base_name(stem)), .list = &item};
    for (const char* end :
         {".new.dat", ".new.dat.br", ".new.dat.xz", ".new.dat.lzma", ".new.dat.gz"})
      if (files.data == nullptr) files.data = find(stem + end);
    if (files.data == nullptr) continue;
    files.patches = find(stem + ".patch.dat");
    out.push_back(std::move(files));
  }
  return out;
}

Result<std::optional<PartitionFacts>> open_script_patch(const ScriptPatch& what,
                                                        const Bundle& bundle,
                                                        const Opening& opening) {
  const auto file = std::ranges::find(bundle.items, what.file, &Item::path);
  if (file == bundle.items.end()) return std::nullopt;
  WEXLO_TRY(SourcePtr patch, file->open(opening.context));
  return PartitionFacts{.name = what.partition,
                        .size = what.new_size,
                        .stored_size = file->stored_size,
                        .from = file->path,
                        .incremental = true,
                        .content = script_patch_content(what, std::move(patch), opening)};
}

Result<PartitionFacts> open_transfer(const TransferFiles& files, const std::string& package,
                                     const Opening& opening) {
  WEXLO_TRY(const std::string raw, read_text(*files.list, kMaxText, opening.context));
  WEXLO_TRY(TransferPlan plan, read_transfer_list(raw, package + "!" + files.list->path));
  WEXLO_TRY(SourcePtr source, files.data->open(opening.context));
  if (const auto packed = read_file_name(files.data->path).packed) {
    // The list says how much data there is: nothing is unpacked to count it.
    WEXLO_TRY(source, open_unpacked({.source = source, .kind = *packed, .size = plan.data_size()},
                                    opening.context));
  } else {
    WEXLO_TRY(Unwrapped inner, unwrap(source, std::nullopt, opening.deeper()));
    source = inner.source;
  }
  std::uint64_t size = plan.size;
  // What the list does not touch stays as it is in the older image.
  if (opening.base != nullptr && !plan.foreign.empty())
    if (const auto old = opening.base->firmware().choose(files.partition, ""))
      size = std::max(size, (*old)->size);
  const bool incremental = !plan.foreign.empty();
  SourcePtr patches;
  if (files.patches != nullptr && incremental) {
    WEXLO_TRY(patches, files.patches->open(opening.context));
  }
  const bool in_order = !plan.commands.empty();
  ContentPtr content = in_order ? ordered_transfer(std::move(plan), std::move(source),
                                                   std::move(patches), files.partition, opening)
                                : transfer_content(std::move(plan), std::move(source));
  return PartitionFacts{.name = files.partition,
                        .size = size,
                        .stored_size = files.data->stored_size,
                        .from = files.data->path,
                        .incremental = incremental,
                        .content = std::move(content)};
}

}  // namespace wexlo
