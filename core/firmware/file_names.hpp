#pragma once
/// What the names of a package's files say: partition, compression, place in a numbered set.

#include <optional>
#include <string>
#include <string_view>

#include "codec/codec.hpp"

namespace wexlo {

struct FileName {
  std::string partition;  ///< fit for a file name, without `-sign`, `_sparse` and the like
  bool image = false;     ///< its ending is one of images
  bool archive = false;   ///< its ending is one of packages inside packages
  /// By the ending, for formats that have no magic.
  std::optional<Compression> packed;
  bool says_packed = false;  ///< its ending is one of packed files
  /// A piece of a set: `NAME.img_sparsechunk.3`, `NAME.part-3`, `NAME_3.img`, `NAME.img.3`.
  std::optional<unsigned> number;
  std::string set;              ///< the name without the number
  bool number_is_sure = false;  ///< a word beside the number, or a number as the ending
};

/// @param path  of a file in a package, or a file's own
[[nodiscard]] FileName read_file_name(std::string_view path);

}  // namespace wexlo
