#include "verified/openssl_key.hpp"

#include <openssl/core_names.h>
#include <openssl/err.h>
#include <openssl/param_build.h>
#include <openssl/pem.h>
#include <openssl/rsa.h>

#include "base/digest.hpp"

namespace wexlo::verified {
namespace {

int no_password(char*, int, int, void*) {
  return -1;
}

Bio memory(std::string_view text) {
  return Bio(BIO_new_mem_buf(text.data(), static_cast<int>(text.size())));
}

}  // namespace

Certificate read_pem_certificate(std::string_view pem) {
  const Bio in = memory(pem);
  Certificate out(in ? PEM_read_bio_X509(in.get(), nullptr, no_password, nullptr) : nullptr);
  ERR_clear_error();
  return out;
}

Key read_pem_private_key(std::string_view pem) {
  const Bio in = memory(pem);
  Key out(in ? PEM_read_bio_PrivateKey(in.get(), nullptr, no_password, nullptr) : nullptr);
  ERR_clear_error();
  return out;
}

Key read_pem_key(std::string_view pem) {
  if (pem.contains("PRIVATE")) return read_pem_private_key(pem);
  if (pem.contains("CERTIFICATE")) {
    const Certificate certificate = read_pem_certificate(pem);
    return Key(certificate ? X509_get_pubkey(certificate.get()) : nullptr);
  }
  const Bio in = memory(pem);
  Key out(in ? PEM_read_bio_PUBKEY(in.get(), nullptr, no_password, nullptr) : nullptr);
  ERR_clear_error();
  return out;
}

Key key_of_blob(View blob) {
  constexpr std::size_t kHead = 8;
  if (blob.size() <= kHead) return nullptr;
  const View modulus = blob.subspan(kHead, (blob.size() - kHead) / 2);
  const Number n(BN_bin2bn(raw(modulus), static_cast<int>(modulus.size()), nullptr)), e(BN_new());
  const std::unique_ptr<OSSL_PARAM_BLD, Deleter<OSSL_PARAM_BLD_free>> build(OSSL_PARAM_BLD_new());
  const KeyContext context(EVP_PKEY_CTX_new_from_name(nullptr, "RSA", nullptr));
  if (!n || !e || !build || !context || BN_set_word(e.get(), RSA_F4) != 1 ||
      OSSL_PARAM_BLD_push_BN(build.get(), OSSL_PKEY_PARAM_RSA_N, n.get()) != 1 ||
      OSSL_PARAM_BLD_push_BN(build.get(), OSSL_PKEY_PARAM_RSA_E, e.get()) != 1)
    return nullptr;
  const std::unique_ptr<OSSL_PARAM, Deleter<OSSL_PARAM_free>> parameters(
      OSSL_PARAM_BLD_to_param(build.get()));
  EVP_PKEY* key = nullptr;
  if (!parameters || EVP_PKEY_fromdata_init(context.get()) != 1 ||
      EVP_PKEY_fromdata(context.get(), &key, EVP_PKEY_PUBLIC_KEY, parameters.get()) != 1)
    key = nullptr;
  ERR_clear_error();
  return Key(key);
}

bool verify_with(EVP_PKEY* key, DigestKind kind, View digest, View signature) {
  const KeyContext context(EVP_PKEY_CTX_new(key, nullptr));
  const bool ready = context && EVP_PKEY_verify_init(context.get()) == 1 &&
                     EVP_PKEY_CTX_set_signature_md(context.get(), digest_method(kind)) == 1;
  const bool holds = ready && EVP_PKEY_verify(context.get(), raw(signature), signature.size(),
                                              raw(digest), digest.size()) == 1;
  ERR_clear_error();
  return holds;
}

Result<Bytes> sign_with(EVP_PKEY* key, DigestKind kind, View digest) {
  const KeyContext context(EVP_PKEY_CTX_new(key, nullptr));
  std::size_t size = static_cast<std::size_t>(EVP_PKEY_get_size(key));
  Bytes out(size);
  const bool ready = context && EVP_PKEY_sign_init(context.get()) == 1 &&
                     EVP_PKEY_CTX_set_rsa_padding(context.get(), RSA_PKCS1_PADDING) == 1 &&
                     EVP_PKEY_CTX_set_signature_md(context.get(), digest_method(kind)) == 1;
  const bool done = ready && EVP_PKEY_sign(context.get(), raw(MutableView(out)), &size, raw(digest),
                                           digest.size()) == 1;
  ERR_clear_error();
  if (!done)
    return fail({.code = ErrorCode::BadValue,
                 .message = "the key does not sign",
                 .expected = "an RSA private key",
                 .hint = "Try it: openssl pkeyutl -sign -inkey FILE"});
  out.resize(size);
  return out;
}

}  // namespace wexlo::verified
