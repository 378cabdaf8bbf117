#pragma once
/// Which files a kit has and where their bytes come from, worked out before any is written: the
/// plan names them, and their digests are filled in afterwards.

#include <map>

#include "firmware/firmware.hpp"
#include "firmware/sparse_write.hpp"
#include "kit/facts/kit_image.hpp"
#include "kit/facts/room.hpp"
#include "kit/facts/ways.hpp"
#include "kit/folder/making.hpp"

namespace wexlo {

/// A file to be written.
struct KitEntry {
  std::string name;  ///< below the kit's folder
  SourcePtr source;
  std::optional<SparseCut> cut{};  ///< a sparse piece of the source; nullopt: the source as it is
  Blob bytes{};                    ///< the whole of it, where it is held
  std::string sha256{};            ///< of those bytes, where it is known
};

/// Which members a tar for download mode has.
struct TarPlan {
  std::string name;  ///< below the kit's folder; empty: there is none
  struct Member {
    std::string partition;
    SourcePtr content;
  };
  std::vector<Member> members;
  bool super = false;  ///< and the whole super, written anew
};

struct KitLayout {
  std::vector<KitEntry> entries;
  /// What dropped partitions held, by their names in super.
  std::map<std::string, std::vector<KitFile>> contents;
  KitFile install, key;          ///< no name: there is none
  std::vector<KitGiven> given;   ///< images and packages that were given
  TarPlan images, first, stock;  ///< of download mode
  std::string tar_field;         ///< file of the stock package in whose field the tar goes
};

struct LayoutInput {
  const Firmware& firmware;
  const std::string& firmware_name;  ///< for choosing partitions in it
  Way way = Way::Bootloader;
  bool restore = false;  ///< the kit only puts stock images back
  const std::vector<RoomPlan>& rooms;
  const std::optional<Given>& install;
  const std::vector<Given>& given;              ///< images
  const Bytes& key;                             ///< a public key blob for the phone; empty: none
  std::optional<std::uint64_t> download_limit;  ///< bytes of one download; nullopt: not known
};

/// Fills in the images' file names and sizes. Errors: those of reading where holes are looked for.
[[nodiscard]] Result<KitLayout> lay_out(const LayoutInput& input, KitImages& images,
                                        const Context& context);

/// The firmware's own image of a partition, by its name in super or on the phone; nullptr: none.
[[nodiscard]] const PartitionFacts* stock_image(const Firmware& firmware, const std::string& name,
                                                const std::string& firmware_name);

}  // namespace wexlo
