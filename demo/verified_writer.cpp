#include "demo/verified_writer.hpp"

#include <openssl/bn.h>
#include <openssl/core_names.h>
#include <openssl/evp.h>
#include <openssl/pem.h>

#include <algorithm>
#include <memory>

#include "base/digest.hpp"
#include "demo/content.hpp"

namespace wexlo::embedded {
std::string_view demo_file(std::string_view name);
}

namespace wexlo::demo {
namespace {

constexpr std::uint64_t kRollback = 1788566400;  ///< 2026-09-05
constexpr int kKeyBits = 2048;

using Key = std::unique_ptr<EVP_PKEY, decltype(&EVP_PKEY_free)>;
using Number = std::unique_ptr<BIGNUM, decltype(&BN_free)>;

Key demo_key() {
  const auto text = embedded::demo_file("korvale-demo.pem");
  const std::unique_ptr<BIO, decltype(&BIO_free)> bio(
      BIO_new_mem_buf(text.data(), static_cast<int>(text.size())), BIO_free);
  return {PEM_read_bio_PrivateKey(bio.get(), nullptr, nullptr, nullptr), EVP_PKEY_free};
}

/// The format's own public key blob: bits, n0inv, n, rr.
Bytes public_key_blob() {
  const Key key = demo_key();
  BIGNUM* raw = nullptr;
  EVP_PKEY_get_bn_param(key.get(), OSSL_PKEY_PARAM_RSA_N, &raw);
  const Number n(raw, BN_free), b(BN_new(), BN_free), inverse(BN_new(), BN_free),
      rr(BN_new(), BN_free);
  const std::unique_ptr<BN_CTX, decltype(&BN_CTX_free)> context(BN_CTX_new(), BN_CTX_free);
  BN_lshift(b.get(), BN_value_one(), 32);
  BN_mod_inverse(inverse.get(), n.get(), b.get(), context.get());
  BN_sub(inverse.get(), b.get(), inverse.get());  // 2^32 - 1/n
  BN_lshift(rr.get(), BN_value_one(), 2 * kKeyBits);
  BN_mod(rr.get(), rr.get(), n.get(), context.get());
  Bytes out;
  BeWriter writer(out);
  writer.put(std::uint32_t{kKeyBits});
  writer.put(static_cast<std::uint32_t>(BN_get_word(inverse.get())));
  for (const BIGNUM* number : {n.get(), rr.get()}) {
    Bytes raw_number(kKeyBits / 8);
    BN_bn2binpad(number, reinterpret_cast<unsigned char*>(raw_number.data()), kKeyBits / 8);
    writer.put(View(raw_number));
  }
  return out;
}

Bytes sign(View message) {
  const Key key = demo_key();
  const std::unique_ptr<EVP_MD_CTX, decltype(&EVP_MD_CTX_free)> context(EVP_MD_CTX_new(),
                                                                        EVP_MD_CTX_free);
  EVP_DigestSignInit(context.get(), nullptr, EVP_sha256(), nullptr, key.get());
  Bytes out(kKeyBits / 8);
  std::size_t size = out.size();
  EVP_DigestSign(context.get(), reinterpret_cast<unsigned char*>(out.data()), &size,
                 reinterpret_cast<const unsigned char*>(message.data()), message.size());
  return out;
}

/// Head and padding around a descriptor's body.
Bytes descriptor(std::uint64_t tag, View body) {
  Bytes out;
  BeWriter writer(out);
  writer.put(tag);
  writer.put(std::uint64_t{align_up(body.size(), 8)});
  writer.put(body);
  writer.align(8);
  return out;
}

Bytes salted(View salt, View data) {
  Hasher hasher(DigestKind::Sha256);
  hasher.update(salt);
  hasher.update(data);
  return hasher.finish();
}

}  // namespace

Bytes property_descriptor(const std::string& key, const std::string& value) {
  Bytes body;
  BeWriter writer(body);
  writer.put(std::uint64_t{key.size()});
  writer.put(std::uint64_t{value.size()});
  writer.text(key, key.size() + 1);
  writer.text(value, value.size() + 1);
  return descriptor(0, body);
}

Bytes hash_descriptor(const std::string& partition, View image, View salt) {
  Bytes body;
  BeWriter writer(body);
  const Bytes digest = salted(salt, image);
  writer.put(std::uint64_t{image.size()});
  writer.text("sha256", 32);
  writer.put(static_cast<std::uint32_t>(partition.size()));
  writer.put(static_cast<std::uint32_t>(salt.size()));
  writer.put(static_cast<std::uint32_t>(digest.size()));
  writer.put(std::uint32_t{0});
  writer.zeros(60);
  writer.put(as_view(partition));
  writer.put(salt);
  writer.put(View(digest));
  return descriptor(2, body);
}

Bytes chain_descriptor(const std::string& partition, std::uint32_t location) {
  Bytes body;
  BeWriter writer(body);
  const Bytes key = public_key_blob();
  writer.put(location);
  writer.put(static_cast<std::uint32_t>(partition.size()));
  writer.put(static_cast<std::uint32_t>(key.size()));
  writer.zeros(64);
  writer.put(as_view(partition));
  writer.put(View(key));
  return descriptor(4, body);
}

HashTree hash_tree(const std::string& partition, View image, View salt) {
  std::vector<Bytes> levels;
  Bytes current = to_bytes(image);
  while (current.size() > kBlock) {
    Bytes level;
    for (std::size_t at = 0; at < current.size(); at += kBlock)
      append(level, View(salted(salt, View(current).subspan(at, kBlock))));
    level.resize(align_up(level.size(), kBlock));
    levels.push_back(level);
    current = std::move(level);
  }
  HashTree out;
  for (auto level = levels.rbegin(); level != levels.rend(); ++level)
    append(out.tree, View(*level));
  const Bytes root = salted(salt, current);

  Bytes body;
  BeWriter writer(body);
  writer.put(std::uint32_t{1});
  writer.put(std::uint64_t{image.size()});
  writer.put(std::uint64_t{image.size()});
  writer.put(std::uint64_t{out.tree.size()});
  writer.put(static_cast<std::uint32_t>(kBlock));
  writer.put(static_cast<std::uint32_t>(kBlock));
  writer.put(std::uint32_t{0});  // no error correction
  writer.zeros(16);
  writer.text("sha256", 32);
  writer.put(static_cast<std::uint32_t>(partition.size()));
  writer.put(static_cast<std::uint32_t>(salt.size()));
  writer.put(static_cast<std::uint32_t>(root.size()));
  writer.put(std::uint32_t{0});
  writer.zeros(60);
  writer.put(as_view(partition));
  writer.put(salt);
  writer.put(View(root));
  out.descriptor = descriptor(1, body);
  return out;
}

Bytes vbmeta_struct(const std::vector<Bytes>& descriptors, Signing signing) {
  Bytes auxiliary;
  for (const Bytes& one : descriptors)
    append(auxiliary, View(one));
  const std::size_t descriptors_size = auxiliary.size();
  const bool is_signed = signing == Signing::DemoKey;
  const Bytes key = is_signed ? public_key_blob() : Bytes{};
  append(auxiliary, View(key));
  auxiliary.resize(align_up(auxiliary.size(), 64));
  const std::size_t hash_size = is_signed ? 32 : 0;
  const std::size_t signature_size = is_signed ? kKeyBits / 8 : 0;

  Bytes header;
  BeWriter writer(header);
  writer.text("AVB0", 4);
  writer.put(std::uint32_t{1});
  writer.put(std::uint32_t{0});
  writer.put(std::uint64_t{align_up(hash_size + signature_size, 64)});
  writer.put(std::uint64_t{auxiliary.size()});
  writer.put(std::uint32_t{is_signed ? 1u : 0u});
  for (const std::size_t value :
       {std::size_t{0}, hash_size, hash_size, signature_size, descriptors_size, key.size(),
        std::size_t{0}, std::size_t{0}, std::size_t{0}, descriptors_size})
    writer.put(std::uint64_t{value});
  writer.put(kRollback);
  writer.put(std::uint32_t{0});
  writer.put(std::uint32_t{0});
  writer.text("korvale 1.0", 48);
  writer.zeros(80);

  Bytes message = header;
  append(message, View(auxiliary));
  Bytes authentication;
  if (is_signed) {
    append(authentication, View(digest(DigestKind::Sha256, message)));
    append(authentication, View(sign(message)));
    authentication.resize(align_up(authentication.size(), 64));
  }
  append(header, View(authentication));
  append(header, View(auxiliary));
  return header;
}

Bytes with_footer(View image, View tree, View vbmeta, std::size_t partition_size) {
  Bytes out = to_bytes(image);
  append(out, tree);
  out.resize(align_up(out.size(), kBlock));
  const std::size_t vbmeta_at = out.size();
  append(out, vbmeta);
  out.resize(partition_size - 64);
  BeWriter footer(out);
  footer.text("AVBf", 4);
  footer.put(std::uint32_t{1});
  footer.put(std::uint32_t{0});
  footer.put(std::uint64_t{image.size()});
  footer.put(std::uint64_t{vbmeta_at});
  footer.put(std::uint64_t{vbmeta.size()});
  footer.zeros(28);
  return out;
}

HashedImage hashed_image(const std::string& name, View image, View salt, const BuildName& build,
                         std::size_t partition_size) {
  HashedImage out{.image = {}, .descriptor = hash_descriptor(name, image, salt)};
  const std::string about = "com.android.build." + name;
  const std::vector<Bytes> own{out.descriptor,
                               property_descriptor(about + ".fingerprint", build.fingerprint),
                               property_descriptor(about + ".security_patch", build.patch_level)};
  out.image = with_footer(image, {}, vbmeta_struct(own, Signing::None), partition_size);
  return out;
}

}  // namespace wexlo::demo
