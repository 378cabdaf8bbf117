#pragma once
/// What a kit has to keep of how it was made, so that it can be made once more from the same
/// firmware: docs/formats/kit.md, "Made again".

#include <map>
#include <string>
#include <vector>

#include "firmware/firmware.hpp"
#include "kit/facts/chain_facts.hpp"
#include "kit/facts/kit_image.hpp"
#include "kit/facts/shape.hpp"

namespace wexlo {

/// Names of the kit's own copies of what was given.
inline constexpr std::string_view kKitSheet = "sheet.toml";
inline constexpr std::string_view kKitGiven = "given";

/// What is taken over of an older kit.
struct OlderKit {
  std::string device, build;                 ///< another build than the firmware's makes an update
  std::vector<ImageFacts> chain;             ///< what differs from it is reported
  std::map<std::string, std::string> stock;  ///< SHA-256 of its stock images, by partition
};

/// An image or package that was given, and where the kit has its bytes.
struct KitGiven {
  std::string partition;   ///< empty: a package to be installed
  std::string name;        ///< of the file that was given, without its folder
  std::string file{};      ///< below the kit's folder; empty: the pieces that the kit writes of it
  std::uint64_t size = 0;  ///< bytes of the image or package
  std::string build, patch_level, device;  ///< what the file that was given said; may be empty
};

/// What a plan names of the firmware's package.
struct KitPackage {
  std::vector<Layer> shells;  ///< outermost first
  std::string tar_field;      ///< the file in whose field of another program the kit's tar goes
  SettingsParts settings;
  FlashingSigns signs;  ///< they name its files
};

struct KitMaking {
  std::string version;  ///< of the Wexlo that made it; empty: one that did not say
  KitPackage package;
  bool rehearsed = true;
  bool whole = false, onto_foreign = false;
  std::string key_sha256;             ///< of the blob of the owner's key; empty: not signed
  std::vector<std::string> put_back;  ///< of a kit of stock images: what was asked for; empty: all
  OlderKit older;
  std::vector<KitGiven> given;
};

/// Where the kit has the bytes of an image or package that was given: in what it writes, or, where
/// that was changed since, in a copy of its own below `given`.
/// @param images  with the names of their files. Errors: those of reading.
[[nodiscard]] Result<KitGiven> kept_given(const Given& given, const KitImages& images);

/// Whether two packages are the same but for what is around them: one has the other's shells, and
/// more outside of those. What a kit names of its package is then as it was.
[[nodiscard]] bool only_wrapped(const std::vector<Layer>& now, const std::vector<Layer>& then);

}  // namespace wexlo
