#include "support/vbmeta.hpp"

namespace wexlo::test {
std::string raw_descriptor(std::uint64_t tag, const std::string& body) {
  const std::string whole = padded(body, 8);
  return be64(tag) + be64(whole.size()) + whole;
}

std::string hash_descriptor(const std::string& partition, const std::string& image,
                            const std::string& salt) {
  return raw_descriptor(2, be64(image.size()) + field("sha256", 32) + be32(size32(partition)) +
                               be32(size32(salt)) + be32(32) + be32(0) + field("", 60) + partition +
                               salt + sha256(salt + image));
}

std::string property_descriptor(const std::string& key, const std::string& value) {
  return raw_descriptor(0, be64(key.size()) + be64(value.size()) + key + '\0' + value + '\0');
}

std::string hashtree_descriptor(const std::string& partition) {
  return raw_descriptor(1, be32(1) + be64(8192) + be64(8192) + be64(4096) + be32(4096) +
                               be32(4096) + be32(2) + be64(12288) + be64(8192) + field("sha1", 32) +
                               be32(size32(partition)) + be32(4) + be32(20) + be32(1) +
                               field("", 60) + partition + "salt" + noise(20));
}

std::string chain_descriptor(const std::string& partition, std::uint32_t location,
                             const std::string& key) {
  return raw_descriptor(4, be32(location) + be32(size32(partition)) + be32(size32(key)) +
                               field("", 64) + partition + key);
}

std::string cmdline_descriptor(std::uint32_t flags, const std::string& text) {
  return raw_descriptor(3, be32(flags) + be32(size32(text)) + text);
}

std::string vbmeta(const std::string& descriptors, std::uint32_t flags, std::uint32_t algorithm) {
  const std::string key = algorithm == 0 ? "" : noise(520, 7);
  const std::string authentication = algorithm == 0 ? "" : padded(noise(32 + 256, 8), 64);
  const std::string auxiliary = padded(descriptors + key, 64);
  return "AVB0" + be32(1) + be32(0) + be64(authentication.size()) + be64(auxiliary.size()) +
         be32(algorithm) + be64(0) + be64(algorithm == 0 ? 0 : 32) + be64(algorithm == 0 ? 0 : 32) +
         be64(algorithm == 0 ? 0 : 256) + be64(descriptors.size()) + be64(key.size()) + be64(0) +
         be64(0) + be64(0) + be64(descriptors.size()) + be64(7) + be32(flags) + be32(0) +
         field("tests 1.0", 48) + field("", 80) + authentication + auxiliary;
}

std::string with_footer(const std::string& image, const std::string& partition,
                        std::size_t partition_size) {
  const std::string own = vbmeta(hash_descriptor(partition, image, noise(32, 5)) +
                                 property_descriptor("com.korvale.tests", "yes"));
  std::string out = padded(image, 4096);
  const std::size_t at = out.size();
  out += own;
  out.resize(partition_size - 64);
  return out + "AVBf" + be32(1) + be32(0) + be64(image.size()) + be64(at) + be64(own.size()) +
         field("", 28);
}

}  // namespace wexlo::test
