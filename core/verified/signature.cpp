#include "verified/signature.hpp"

#include <openssl/bio.h>
#include <openssl/err.h>
#include <openssl/evp.h>
#include <openssl/pem.h>
#include <openssl/x509.h>

#include <memory>

#include "base/digest_method.hpp"

namespace wexlo::verified {
namespace {

template <auto Free>
struct Deleter {
  template <class T>
  void operator()(T* one) const {
    Free(one);
  }
};
using Key = std::unique_ptr<EVP_PKEY, Deleter<EVP_PKEY_free>>;

/// A password is never asked for.
int no_password(char*, int, int, void*) {
  return -1;
}

/// A public key, the key of a certificate, or the public half of a private key.
Key read_key(std::string_view pem) {
  const std::unique_ptr<BIO, Deleter<BIO_free>> in(
      BIO_new_mem_buf(pem.data(), static_cast<int>(pem.size())));
  if (!in) return nullptr;
  Key key;
  if (pem.contains("CERTIFICATE")) {
    const std::unique_ptr<X509, Deleter<X509_free>> certificate(
        PEM_read_bio_X509(in.get(), nullptr, no_password, nullptr));
    if (certificate) key.reset(X509_get_pubkey(certificate.get()));
  } else if (pem.contains("PRIVATE")) {
    key.reset(PEM_read_bio_PrivateKey(in.get(), nullptr, no_password, nullptr));
  } else {
    key.reset(PEM_read_bio_PUBKEY(in.get(), nullptr, no_password, nullptr));
  }
  ERR_clear_error();
  return key;
}

const unsigned char* raw(View bytes) {
  return reinterpret_cast<const unsigned char*>(bytes.data());
}

}  // namespace

Result<bool> signature_is_true(View digest, DigestKind kind, View signature,
                               std::string_view key_text) {
  const Key key = read_key(key_text);
  if (!key)
    return fail({.code = ErrorCode::BadValue,
                 .message = "the key does not read",
                 .expected = "PEM: a public key, a certificate or a private key",
                 .hint = "Show it with: openssl pkey -pubin -in FILE -text"});
  const std::unique_ptr<EVP_PKEY_CTX, Deleter<EVP_PKEY_CTX_free>> context(
      EVP_PKEY_CTX_new(key.get(), nullptr));
  const bool ready = context && EVP_PKEY_verify_init(context.get()) == 1 &&
                     EVP_PKEY_CTX_set_signature_md(context.get(), digest_method(kind)) == 1;
  const bool is_true = ready && EVP_PKEY_verify(context.get(), raw(signature), signature.size(),
                                                raw(digest), digest.size()) == 1;
  ERR_clear_error();
  return is_true;
}

}  // namespace wexlo::verified
