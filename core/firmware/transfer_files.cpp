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

Result<TransferPartition> open_transfer(const TransferFiles& files, const std::string& package,
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
  TransferPartition out{.incremental = !plan.foreign.empty()};
  const std::uint64_t size = plan.size;
  out.facts = {.name = files.partition,
               .size = size,
               .stored_size = files.data->stored_size,
               .from = files.data->path,
               .content = transfer_content(std::move(plan), std::move(source))};
  return out;
}

}  // namespace wexlo
