#pragma once
/// Whose hand an image shows: docs/origin.md. Signs are told one by one; products are not named.

#include <filesystem>
#include <string>
#include <vector>

#include "judge/reading.hpp"

namespace wexlo {

/// One thing that speaks for another hand than the maker's. Signs of one kind count once.
struct Sign {
  std::string kind;  ///< "digest", "second-init", "pattern", "folders", "flags", "recovery"
  std::string text;  ///< a clause for people, with the place
};

/// A digest that an image carries over itself.
struct OwnDigest {
  std::string what;  ///< "the digest in its verified-boot footer"
  bool matches = false;
};

struct Origin {
  std::string word;    ///< "pristine", "journaled", "altered", "unknown"
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
