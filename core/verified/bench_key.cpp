#include "verified/bench_key.hpp"

#include <openssl/pem.h>

#include "base/source.hpp"
#include "verified/openssl_key.hpp"

namespace wexlo::verified {
namespace {

constexpr std::size_t kPublicSize = 32, kSignatureSize = 64;
constexpr std::uint64_t kMaxPem = 64u << 10;

using DigestContext = std::unique_ptr<EVP_MD_CTX, Deleter<EVP_MD_CTX_free>>;

std::unexpected<Error> failed(const char* message) {
  return fail({.code = ErrorCode::BadValue,
               .message = message,
               .expected = "a private key of Ed25519, as PEM, without a password",
               .hint = "wexlo keys new --bench FILE makes one."});
}

class OpenedKey final : public BenchKey {
 public:
  OpenedKey(Key key, Bytes pub) : key_(std::move(key)), public_(std::move(pub)) {}
  [[nodiscard]] const Bytes& public_key() const override { return public_; }
  [[nodiscard]] Result<Bytes> sign(View message) const override {
    const DigestContext context(EVP_MD_CTX_new());
    Bytes out(kSignatureSize);
    std::size_t size = out.size();
    const bool done =
        context && EVP_DigestSignInit(context.get(), nullptr, nullptr, nullptr, key_.get()) == 1 &&
        EVP_DigestSign(context.get(), raw(MutableView(out)), &size, raw(message), message.size()) ==
            1 &&
        size == out.size();
    if (!done) return failed("the bench's key does not sign");
    return out;
  }

 private:
  Key key_;
  Bytes public_;
};

}  // namespace

Result<BenchKeyPtr> read_bench_key(std::string_view pem) {
  Key key = read_pem_private_key(pem);
  if (!key || EVP_PKEY_get_base_id(key.get()) != EVP_PKEY_ED25519)
    return failed("this is no key that signs records");
  Bytes pub(kPublicSize);
  std::size_t size = pub.size();
  if (EVP_PKEY_get_raw_public_key(key.get(), raw(MutableView(pub)), &size) != 1 ||
      size != pub.size())
    return failed("the key has no public half");
  return std::make_shared<const OpenedKey>(std::move(key), std::move(pub));
}

Result<BenchKeyPtr> load_bench_key(const std::string& file) {
  WEXLO_TRY(const SourcePtr source, open_file(file));
  WEXLO_TRY(const Blob pem, read_all(*source, kMaxPem));
  auto key = read_bench_key(as_text(pem.view()));
  if (!key) return fail(in_file(std::move(key).error(), file));
  return key;
}

Result<std::string> new_bench_key() {
  const Key key(EVP_PKEY_Q_keygen(nullptr, nullptr, "ED25519"));
  const Bio out(BIO_new(BIO_s_mem()));
  if (!key || !out ||
      PEM_write_bio_PKCS8PrivateKey(out.get(), key.get(), nullptr, nullptr, 0, nullptr, nullptr) !=
          1)
    return fail({.code = ErrorCode::Io,
                 .message = "no key could be made: the library of the system does not make Ed25519",
                 .expected = "OpenSSL 3 with Ed25519",
                 .hint = "Make one elsewhere: openssl genpkey -algorithm ed25519."});
  char* data = nullptr;
  const long size = BIO_get_mem_data(out.get(), &data);
  return std::string(data, static_cast<std::size_t>(size));
}

bool signed_with(View public_key, View message, View signature) {
  if (public_key.size() != kPublicSize || signature.size() != kSignatureSize) return false;
  const Key key(
      EVP_PKEY_new_raw_public_key(EVP_PKEY_ED25519, nullptr, raw(public_key), public_key.size()));
  const DigestContext context(EVP_MD_CTX_new());
  return key && context &&
         EVP_DigestVerifyInit(context.get(), nullptr, nullptr, nullptr, key.get()) == 1 &&
         EVP_DigestVerify(context.get(), raw(signature), signature.size(), raw(message),
                          message.size()) == 1;
}

}  // namespace wexlo::verified
