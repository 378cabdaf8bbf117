#include "verified/key.hpp"

#include <fmt/format.h>
#include <openssl/core_names.h>
#include <openssl/err.h>
#include <openssl/pem.h>
#include <openssl/rsa.h>
#include <sys/stat.h>

#include <algorithm>
#include <array>

#include "base/digest.hpp"
#include "base/source.hpp"
#include "verified/openssl_key.hpp"

namespace wexlo::verified {
namespace {

constexpr std::size_t kHead = 8;  ///< of a blob: bits, n0inv
constexpr std::array<unsigned, 3> kBits{2048, 4096, 8192};
constexpr std::uint64_t kMaxKeyFile = 64u << 10;

bool is_known_size(unsigned bits) {
  return std::ranges::find(kBits, bits) != kBits.end();
}

/// bits, -1/n mod 2^32, n, (2^bits)^2 mod n: what a loader's arithmetic wants ready.
Bytes blob_of(const BIGNUM* n, unsigned bits) {
  const NumberContext context(BN_CTX_new());
  const Number base(BN_new()), inverse(BN_new()), rr(BN_new());
  if (!context || !base || !inverse || !rr) throw std::bad_alloc();
  BN_lshift(base.get(), BN_value_one(), 32);
  if (BN_mod_inverse(inverse.get(), n, base.get(), context.get()) == nullptr) return {};
  BN_sub(inverse.get(), base.get(), inverse.get());
  BN_lshift(rr.get(), BN_value_one(), static_cast<int>(2 * bits));
  BN_mod(rr.get(), rr.get(), n, context.get());
  Bytes out;
  BeWriter writer(out);
  writer.put(std::uint32_t{bits});
  writer.put(static_cast<std::uint32_t>(BN_get_word(inverse.get())));
  Bytes number(bits / 8);
  for (const BIGNUM* one : {n, static_cast<const BIGNUM*>(rr.get())}) {
    BN_bn2binpad(one, raw(MutableView(number)), static_cast<int>(number.size()));
    writer.put(View(number));
  }
  return out;
}

Number number_of(const EVP_PKEY* key, const char* name) {
  BIGNUM* out = nullptr;
  if (EVP_PKEY_get_bn_param(key, name, &out) != 1) out = nullptr;
  ERR_clear_error();
  return Number(out);
}

Result<Bytes> blob_of(const EVP_PKEY* key) {
  const Number n = number_of(key, OSSL_PKEY_PARAM_RSA_N), e = number_of(key, OSSL_PKEY_PARAM_RSA_E);
  const auto bits = n ? static_cast<unsigned>(BN_num_bits(n.get())) : 0;
  const bool usual = e && BN_is_word(e.get(), RSA_F4) == 1;
  if (!n || !usual || !is_known_size(bits))
    return fail(
        {.code = ErrorCode::Unsupported,
         .message = "verified boot has no algorithm for such a key",
         .expected = "RSA with 2048, 4096 or 8192 bits and exponent 65537",
         .found = n ? fmt::format("RSA with {} bits{}", bits, usual ? "" : " and another exponent")
                    : "no RSA key",
         .hint = "Make one: wexlo keys new -o FILE"});
  return blob_of(n.get(), bits);
}

Error no_key() {
  return {.code = ErrorCode::BadValue,
          .message = "this is no key",
          .expected = "PEM (public key, certificate, private key), or a public key blob",
          .hint = "wexlo keys new makes a signing key; wexlo keys show shows one."};
}

bool is_pem(View file) {
  return as_text(file).contains("-----BEGIN ");
}

Result<Blob> read_key_bytes(const std::filesystem::path& file) {
  WEXLO_TRY(const SourcePtr source, open_file(file));
  if (source->size() > kMaxKeyFile) return fail(in_file(no_key(), file.string()));
  return read_all(*source, kMaxKeyFile);
}

class MemorySigner final : public Signer {
 public:
  MemorySigner(Key key, Bytes blob) : Signer(std::move(blob)), key_(std::move(key)) {}

 private:
  Result<Bytes> make(DigestKind kind, View digest) const override {
    return sign_with(key_.get(), kind, digest);
  }
  Key key_;
};

}  // namespace

std::optional<Algorithm> algorithm_of(std::uint64_t id) {
  if (id == 0 || id > 6) return std::nullopt;
  return Algorithm{static_cast<std::uint32_t>(id),
                   id <= 3 ? DigestKind::Sha256 : DigestKind::Sha512, kBits[(id - 1) % 3]};
}

std::optional<Algorithm> algorithm_for(DigestKind digest, unsigned bits) {
  for (std::uint32_t id = 1; id <= 6; ++id) {
    const auto one = algorithm_of(id);
    if (one->digest == digest && one->bits == bits) return one;
  }
  return std::nullopt;
}

unsigned key_bits(View blob) {
  if (blob.size() < kHead) return 0;
  const auto bits = load<std::uint32_t, std::endian::big>(blob.data());
  if (!is_known_size(bits) || blob.size() != kHead + bits / 4) return 0;
  const Number n(BN_bin2bn(raw(blob.subspan(kHead)), static_cast<int>(bits / 8), nullptr));
  if (!n || static_cast<unsigned>(BN_num_bits(n.get())) != bits || !BN_is_odd(n.get())) return 0;
  return equal(blob_of(n.get(), bits), blob) ? bits : 0;
}

Result<Bytes> read_public_key(View file) {
  if (is_pem(file)) {
    const Key key = read_pem_key(as_text(file));
    if (!key) return fail(no_key());
    return blob_of(key.get());
  }
  if (key_bits(file) != 0) return to_bytes(file);
  Error error = no_key();
  if (file.size() >= kHead && is_known_size(load<std::uint32_t, std::endian::big>(file.data()))) {
    error.message = "the public key blob's numbers do not agree with its modulus";
    error.hint =
        "A loader would calculate wrongly with it. Make it anew: wexlo keys show FILE -o "
        "BLOB";
  }
  return fail(std::move(error));
}

Result<Bytes> load_public_key(const std::filesystem::path& file) {
  WEXLO_TRY(const Blob bytes, read_key_bytes(file));
  auto key = read_public_key(bytes.view());
  if (!key) return fail(in_file(std::move(key).error(), file.string()));
  return key;
}

std::string public_key_pem(View blob) {
  const Key key = key_of_blob(blob);
  const Bio out(BIO_new(BIO_s_mem()));
  if (!key || !out || PEM_write_bio_PUBKEY(out.get(), key.get()) != 1) return {};
  char* text = nullptr;
  const auto size = BIO_get_mem_data(out.get(), &text);
  return {text, static_cast<std::size_t>(size)};
}

bool signature_holds(View blob, DigestKind kind, View digest, View signature) {
  const unsigned bits = key_bits(blob);
  if (bits == 0 || signature.size() != bits / 8) return false;
  const Key key = key_of_blob(blob);
  return key && verify_with(key.get(), kind, digest, signature);
}

Result<Bytes> Signer::sign(DigestKind kind, View digest) const {
  WEXLO_TRY(Bytes signature, make(kind, digest));
  if (signature_holds(blob_, kind, digest, signature)) return signature;
  return fail({.code = ErrorCode::BadSignature,
               .message = "what the signer gave is no signature of the digest",
               .expected = fmt::format("{} bytes, PKCS#1 v1.5, made with the key {}",
                                       blob_.empty() ? 0 : key_bits(blob_) / 8,
                                       short_digest(sha256_hex(blob_))),
               .found = fmt::format("{} bytes", signature.size()),
               .hint = "Is the public key the one that belongs to the private one?"});
}

Result<SignerPtr> signer_of(std::string_view pem) {
  Key key = read_pem_private_key(pem);
  if (!key)
    return fail({.code = ErrorCode::BadValue,
                 .message = "this is no private key that can be used",
                 .expected = "a PEM private key without a password",
                 .hint = "Make one: wexlo keys new -o FILE. A key behind a password or on a token "
                         "is used through --signer."});
  WEXLO_TRY(Bytes blob, blob_of(key.get()));
  return SignerPtr(std::make_shared<MemorySigner>(std::move(key), std::move(blob)));
}

Result<SignerPtr> load_signer(const std::filesystem::path& file) {
  WEXLO_TRY(const Blob bytes, read_key_bytes(file));
  auto signer = signer_of(as_text(bytes.view()));
  if (!signer) return fail(in_file(std::move(signer).error(), file.string()));
  return signer;
}

namespace {

/// Looks for primes until it is told to stop: that may take minutes.
int go_on(EVP_PKEY_CTX* context) {
  const auto* stop = static_cast<const std::stop_token*>(EVP_PKEY_CTX_get_app_data(context));
  return stop->stop_requested() ? 0 : 1;
}

Key generated_key(unsigned bits, std::stop_token stop) {
  const KeyContext context(EVP_PKEY_CTX_new_from_name(nullptr, "RSA", nullptr));
  if (!context || EVP_PKEY_keygen_init(context.get()) <= 0 ||
      EVP_PKEY_CTX_set_rsa_keygen_bits(context.get(), static_cast<int>(bits)) <= 0)
    return nullptr;
  EVP_PKEY_CTX_set_app_data(context.get(), &stop);
  EVP_PKEY_CTX_set_cb(context.get(), go_on);
  EVP_PKEY* made = nullptr;
  if (EVP_PKEY_keygen(context.get(), &made) <= 0) return nullptr;
  return Key(made);
}

}  // namespace

Result<std::string> new_private_key(unsigned bits, const Context& context) {
  if (!is_known_size(bits))
    return fail({.code = ErrorCode::Usage,
                 .message = "verified boot has no algorithm for such a key",
                 .expected = "2048, 4096 or 8192 bits",
                 .found = fmt::format("{}", bits)});
  const Key key = generated_key(bits, context.stop);
  WEXLO_CHECK(check_stop(context));
  const Bio out(BIO_new(BIO_s_mem()));
  if (!key || !out ||
      PEM_write_bio_PKCS8PrivateKey(out.get(), key.get(), nullptr, nullptr, 0, nullptr, nullptr) !=
          1) {
    ERR_clear_error();
    return fail({.code = ErrorCode::Io, .message = "the crypto library could not make a key"});
  }
  char* text = nullptr;
  const auto size = BIO_get_mem_data(out.get(), &text);
  return std::string(text, static_cast<std::size_t>(size));
}

bool is_readable_by_others(const std::filesystem::path& file) {
  struct stat info {};
  return ::stat(file.c_str(), &info) == 0 && (info.st_mode & 077) != 0;
}

}  // namespace wexlo::verified
