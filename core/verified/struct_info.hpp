#pragma once
/// What a verified-boot struct says, as plain values for whoever tells or compares it.

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "verified/vbmeta.hpp"

namespace wexlo {

struct DescriptorInfo {
  std::string kind, partition;
  std::vector<std::pair<std::string, std::string>> values;  ///< name and text, in order
};

struct VbmetaInfo {
  std::string algorithm, release, public_key_sha256;
  std::uint64_t rollback_index = 0, flags = 0;
  std::vector<std::string> flag_names;
  std::optional<bool> hash_matches;  ///< of the struct over itself
  std::vector<DescriptorInfo> descriptors;
};

struct FooterInfo {
  std::uint64_t original_image_size = 0, vbmeta_offset = 0, vbmeta_size = 0;
  std::optional<bool> digest_matches;
  VbmetaInfo vbmeta;
};

/// A vbmeta struct's facts; parsed before.
[[nodiscard]] Result<VbmetaInfo> vbmeta_info(const Image& vbmeta);
/// The footer and the struct it points at; nullopt when there is none.
[[nodiscard]] Result<std::optional<FooterInfo>> footer_info(View bytes);
/// The same without reading all of the image: whether its digests match is not looked at.
[[nodiscard]] Result<std::optional<FooterInfo>> footer_info(const Source& image);
/// The struct in a boot_signature section; nullopt when there is none that reads.
[[nodiscard]] std::optional<FooterInfo> boot_signature_info(const Image& image, View bytes);

}  // namespace wexlo
