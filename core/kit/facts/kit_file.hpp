#pragma once
/// Files of a kit, by their names in its folder.

#include <cstdint>
#include <string>
#include <vector>

namespace wexlo {

struct KitFile {
  std::string file;        ///< below the kit's folder, parted by '/'
  std::uint64_t size = 0;  ///< bytes; 0 as long as it is not written
  std::string sha256{};    ///< lower-case hex; empty as long as it is not written, or not counted
  bool operator==(const KitFile&) const = default;
};

/// An image as files: whole, or in sparse pieces under the phone's download limit.
struct KitContent {
  std::string file;        ///< empty: in pieces, or not in the kit
  std::uint64_t size = 0;  ///< bytes of the image, in pieces or not
  std::string sha256{};    ///< of the whole file
  std::vector<KitFile> pieces{};
  [[nodiscard]] bool empty() const { return file.empty() && pieces.empty(); }
  bool operator==(const KitContent&) const = default;
};

}  // namespace wexlo
