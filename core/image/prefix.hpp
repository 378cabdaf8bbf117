#pragma once
/// What a maker puts before a whole image: docs/formats/wrappings.md. It is kept, and where its
/// meaning is known it is renewed for changed content.

#include <optional>
#include <string>

#include "image/layout.hpp"

namespace wexlo::prefix {

/// An image is looked for at multiples of 512 in this many bytes.
inline constexpr std::size_t kSearch = 1u << 20;

struct Prefix {
  std::string_view kind;   ///< "part-header", "dhtb", "krnl", "keyblock", "unknown"
  std::uint64_t size = 0;  ///< bytes before the image
};

/// @param start     up to kSearch bytes of the file, or all of it
/// @param is_image  whether an image of a known kind begins at these bytes
/// nullopt when nothing that is an image follows; never for an image that begins at 0.
[[nodiscard]] std::optional<Prefix> find(View start, bool (*is_image)(View));

[[nodiscard]] std::string_view kind_of(View prefix);  ///< the kind alone, by its magic

/// Is the length (and digest) in the prefix true for what follows? nullopt: its meaning is not
/// known, or it says nothing.
[[nodiscard]] std::optional<bool> is_true(View prefix, View following);

/// Makes the prefix of a changed image true where the stock one was. A sentence for the user, when
/// the prefix is of a kind whose fields are not known; empty else.
/// @param stock_end  end of the stock image's sections in its file, bytes
[[nodiscard]] std::string refresh(Image& image, View stock, std::uint64_t stock_end);

}  // namespace wexlo::prefix
