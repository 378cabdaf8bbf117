#pragma once
/// Who changed an image: docs/origin.md. Signs are told one by one; products are not named.

#include <filesystem>
#include <string>
#include <vector>

#include "judge/reading.hpp"

namespace wexlo {

/// One thing that shows another tool's patch. Signs of one kind count once.
enum class SignKind : std::uint8_t {
  Digest,
  SecondInit,
  Pattern,
  Folders,
  Flags,
  Recovery,
  RamdiskWord,  ///< the kernel's word for skipping the ramdisk is another one
};
/// As JSON has it, e.g. "second-init".
[[nodiscard]] std::string_view sign_name(SignKind kind);

struct Sign {
  SignKind kind = SignKind::Pattern;
  std::string text;  ///< a clause for people, with the place
};

/// A digest that an image carries over itself.
struct OwnDigest {
  std::string what;  ///< "the digest in its verified-boot footer"
  bool matches = false;
};

enum class OriginWord {
  Unknown,
  Pristine,   ///< as its maker built it
  Journaled,  ///< patched by Wexlo
  Altered,    ///< changed by another tool
};
[[nodiscard]] std::string_view origin_word(OriginWord word);

struct Origin {
  OriginWord word = OriginWord::Unknown;
  std::string reason;  ///< a clause for people
  std::vector<Sign> signs;
};

/// @param digests  those that could be checked
/// @param file     the image's own path: a vbmeta image beside it tells which partitions expect
///                 verification; may be empty
[[nodiscard]] Origin judge_origin(const Image& image, const ImageReading& reading,
                                  const std::vector<OwnDigest>& digests,
                                  const std::filesystem::path& file);

}  // namespace wexlo
