#pragma once
/// How kinds of edit are read, for the table in read_edit.cpp. For .cpp files only.

#include "recipe/fields.hpp"

namespace wexlo {

using What = decltype(Edit::what);

// Of an image's other parts than its ramdisks' files: read_image_kinds.cpp.
[[nodiscard]] What read_kernel_bytes(Fields& f);
[[nodiscard]] What read_kernel_program(Fields& f);
[[nodiscard]] What read_tree_property(Fields& f);
[[nodiscard]] What read_tree_node(Fields& f);
[[nodiscard]] What read_part(Fields& f);
[[nodiscard]] What read_fragment(Fields& f);
[[nodiscard]] What read_vbmeta_flags(Fields& f);

}  // namespace wexlo
