#pragma once
/// A partition as a package carries it by a transfer list: docs/formats/transfer-list.md.

#include <string>
#include <vector>

#include "archive/bundle.hpp"
#include "firmware/firmware.hpp"
#include "firmware/formats.hpp"
#include "firmware/script_patches.hpp"

namespace wexlo {

/// The files of one such partition; they live as long as their bundle.
struct TransferFiles {
  std::string partition;
  const Item* list = nullptr;     ///< NAME.transfer.list
  const Item* data = nullptr;     ///< NAME.new.dat, packed or not
  const Item* patches = nullptr;  ///< NAME.patch.dat; nullptr: none
};
/// Those whose list has its data beside it.
[[nodiscard]] std::vector<TransferFiles> find_transfers(const Bundle& bundle);

/// An image that the package's script patches as a whole; nullopt: its patch is not in the package.
[[nodiscard]] Result<std::optional<PartitionFacts>> open_script_patch(const ScriptPatch& what,
                                                                      const Bundle& bundle,
                                                                      const Opening& opening);

/// Errors: those of the list, of reading and of unpacking.
[[nodiscard]] Result<PartitionFacts> open_transfer(const TransferFiles& files,
                                                   const std::string& package,
                                                   const Opening& opening);

}  // namespace wexlo
