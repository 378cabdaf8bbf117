#pragma once
/// OpenSSL's objects with owners, for the few places that work with keys.

#include <openssl/bio.h>
#include <openssl/bn.h>
#include <openssl/evp.h>
#include <openssl/x509.h>

#include <memory>
#include <string_view>

#include "base/digest.hpp"

namespace wexlo::verified {

template <auto Free>
struct Deleter {
  template <class T>
  void operator()(T* one) const {
    Free(one);
  }
};
using Key = std::unique_ptr<EVP_PKEY, Deleter<EVP_PKEY_free>>;
using KeyContext = std::unique_ptr<EVP_PKEY_CTX, Deleter<EVP_PKEY_CTX_free>>;
using Bio = std::unique_ptr<BIO, Deleter<BIO_free>>;
using Number = std::unique_ptr<BIGNUM, Deleter<BN_free>>;
using NumberContext = std::unique_ptr<BN_CTX, Deleter<BN_CTX_free>>;
using Certificate = std::unique_ptr<X509, Deleter<X509_free>>;

[[nodiscard]] inline const unsigned char* raw(View bytes) {
  return reinterpret_cast<const unsigned char*>(bytes.data());
}
[[nodiscard]] inline unsigned char* raw(MutableView bytes) {
  return reinterpret_cast<unsigned char*>(bytes.data());
}

/// A public key, the key of a certificate, or the public half of a private key; null: none of them.
/// A password is never asked for.
[[nodiscard]] Key read_pem_key(std::string_view pem);
[[nodiscard]] Key read_pem_private_key(std::string_view pem);
[[nodiscard]] Certificate read_pem_certificate(std::string_view pem);
/// The key as it stands in a valid blob.
[[nodiscard]] Key key_of_blob(View blob);

/// PKCS#1 v1.5. @param kind  of the digest
[[nodiscard]] bool verify_with(EVP_PKEY* key, DigestKind kind, View digest, View signature);
[[nodiscard]] Result<Bytes> sign_with(EVP_PKEY* key, DigestKind kind, View digest);

}  // namespace wexlo::verified
