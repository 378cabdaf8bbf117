#include "verified/older_signature.hpp"

#include <fmt/format.h>
#include <openssl/asn1t.h>
#include <openssl/err.h>
#include <openssl/objects.h>

#include <algorithm>
#include <array>

#include "verified/openssl_key.hpp"

namespace wexlo::verified {
namespace {

// The sequence as OpenSSL's templates describe one. Certificate and attributes are kept as they
// were spelled: what is signed is their very bytes.
struct SignedAttributes {
  ASN1_PRINTABLESTRING* target;
  ASN1_INTEGER* length;
};
struct SignatureSequence {
  ASN1_INTEGER* version;
  ASN1_TYPE* certificate;
  X509_ALGOR* algorithm;
  ASN1_TYPE* attributes;
  ASN1_OCTET_STRING* signature;
};

#pragma GCC diagnostic push
#pragma GCC diagnostic ignored "-Wpedantic"
// clang-format off
ASN1_SEQUENCE(SignedAttributes) = {
  ASN1_SIMPLE(SignedAttributes, target, ASN1_PRINTABLESTRING),
  ASN1_SIMPLE(SignedAttributes, length, ASN1_INTEGER),
} static_ASN1_SEQUENCE_END(SignedAttributes)

ASN1_SEQUENCE(SignatureSequence) = {
  ASN1_SIMPLE(SignatureSequence, version, ASN1_INTEGER),
  ASN1_SIMPLE(SignatureSequence, certificate, ASN1_ANY),
  ASN1_SIMPLE(SignatureSequence, algorithm, X509_ALGOR),
  ASN1_SIMPLE(SignatureSequence, attributes, ASN1_ANY),
  ASN1_SIMPLE(SignatureSequence, signature, ASN1_OCTET_STRING),
} static_ASN1_SEQUENCE_END(SignatureSequence)
#pragma GCC diagnostic pop

template <class T>
const ASN1_ITEM* item();
// clang-format on
template <>
const ASN1_ITEM* item<SignedAttributes>() {
  return ASN1_ITEM_rptr(SignedAttributes);
}
template <>
const ASN1_ITEM* item<SignatureSequence>() {
  return ASN1_ITEM_rptr(SignatureSequence);
}

template <class T>
struct FreeItem {
  void operator()(T* one) const { ASN1_item_free(reinterpret_cast<ASN1_VALUE*>(one), item<T>()); }
};
template <class T>
using Parsed = std::unique_ptr<T, FreeItem<T>>;

/// @param size  gets the bytes that it takes. Null: it does not read.
template <class T>
Parsed<T> parse(View in, std::size_t& size) {
  constexpr std::size_t kMost = 1u << 20;  // far more than any such sequence has
  const unsigned char* at = raw(in);
  const unsigned char* const begin = at;
  Parsed<T> out(reinterpret_cast<T*>(
      ASN1_item_d2i(nullptr, &at, static_cast<long>(std::min(in.size(), kMost)), item<T>())));
  ERR_clear_error();
  size = static_cast<std::size_t>(at - begin);
  return out;
}

View view_of(const ASN1_STRING* text) {
  return {reinterpret_cast<const std::byte*>(ASN1_STRING_get0_data(text)),
          static_cast<std::size_t>(ASN1_STRING_length(text))};
}

/// All bytes of a sequence that is kept as it was spelled; nullopt: it is something else.
std::optional<View> sequence_of(const ASN1_TYPE* any) {
  if (ASN1_TYPE_get(any) != V_ASN1_SEQUENCE) return std::nullopt;
  return view_of(any->value.sequence);
}

std::optional<std::uint64_t> number_of(const ASN1_INTEGER* value) {
  std::uint64_t out = 0;
  const bool read = ASN1_INTEGER_get_uint64(&out, value) == 1;
  ERR_clear_error();
  return read ? std::optional(out) : std::nullopt;
}

template <class T>
Bytes der_of(const T* one) {
  unsigned char* raw_bytes = nullptr;
  const int size = ASN1_item_i2d(reinterpret_cast<const ASN1_VALUE*>(one), &raw_bytes, item<T>());
  Bytes out;
  if (size > 0)
    append(out, View(reinterpret_cast<std::byte*>(raw_bytes), static_cast<std::size_t>(size)));
  OPENSSL_free(raw_bytes);
  return out;
}

template <class T>
Parsed<T> make() {
  Parsed<T> out(reinterpret_cast<T*>(ASN1_item_new(item<T>())));
  if (!out) throw std::bad_alloc();
  return out;
}

/// Puts bytes that are a sequence already into a field.
void set_sequence(ASN1_TYPE* field, View der) {
  ASN1_STRING* text = ASN1_STRING_new();
  if (text == nullptr || ASN1_STRING_set(text, der.data(), static_cast<int>(der.size())) != 1)
    throw std::bad_alloc();
  ASN1_TYPE_set(field, V_ASN1_SEQUENCE, text);
}

/// The certificate's key signed with one of these.
struct SignatureKind {
  int nid;
  DigestKind digest;
  std::string_view name;
};
constexpr std::array kKinds{
    SignatureKind{NID_sha256WithRSAEncryption, DigestKind::Sha256, "sha256"},
    SignatureKind{NID_sha512WithRSAEncryption, DigestKind::Sha512, "sha512"},
    SignatureKind{NID_sha1WithRSAEncryption, DigestKind::Sha1, "sha1"}};

const SignatureKind* kind_of(const X509_ALGOR* algorithm) {
  const ASN1_OBJECT* object = nullptr;
  X509_ALGOR_get0(&object, nullptr, nullptr, algorithm);
  const auto* found = std::ranges::find(kKinds, OBJ_obj2nid(object), &SignatureKind::nid);
  return found == kKinds.end() ? nullptr : &*found;
}

Certificate certificate_of(View der) {
  const unsigned char* at = raw(der);
  Certificate out(d2i_X509(nullptr, &at, static_cast<long>(der.size())));
  ERR_clear_error();
  return out;
}

Bytes signed_message(View image, View attributes, DigestKind kind) {
  Hasher hasher(kind);
  hasher.update(image);
  hasher.update(attributes);
  return hasher.finish();
}

Bytes der_of_certificate(X509* certificate) {
  unsigned char* raw_bytes = nullptr;
  const int size = i2d_X509(certificate, &raw_bytes);
  Bytes out;
  if (size > 0)
    append(out, View(reinterpret_cast<std::byte*>(raw_bytes), static_cast<std::size_t>(size)));
  OPENSSL_free(raw_bytes);
  return out;
}

/// A certificate for a key, without a clock: the same each time.
Certificate plain_certificate(EVP_PKEY* key) {
  Certificate out(X509_new());
  if (!out) throw std::bad_alloc();
  X509_set_version(out.get(), 2);
  ASN1_INTEGER_set(X509_get_serialNumber(out.get()), 1);
  ASN1_TIME_set_string(X509_getm_notBefore(out.get()), "20200101000000Z");
  ASN1_TIME_set_string(X509_getm_notAfter(out.get()), "20491231235959Z");
  X509_NAME* name = X509_get_subject_name(out.get());
  X509_NAME_add_entry_by_txt(name, "CN", MBSTRING_ASC,
                             reinterpret_cast<const unsigned char*>("boot signing key"), -1, -1, 0);
  X509_set_issuer_name(out.get(), name);
  X509_set_pubkey(out.get(), key);
  if (X509_sign(out.get(), key, EVP_sha256()) == 0) out.reset();
  ERR_clear_error();
  return out;
}

}  // namespace

std::optional<OlderSignatureInfo> older_signature(View at, View image) {
  // Most images have none: their tail does not begin like a sequence.
  if (at.empty() || at.front() != std::byte{0x30}) return std::nullopt;
  std::size_t size = 0, ignored = 0;
  const auto all = parse<SignatureSequence>(at, size);
  if (!all || number_of(all->version) != 1) return std::nullopt;
  const auto certificate = sequence_of(all->certificate);
  const auto spelled = sequence_of(all->attributes);
  const auto attributes =
      certificate && spelled ? parse<SignedAttributes>(*spelled, ignored) : nullptr;
  const auto length = attributes ? number_of(attributes->length) : std::nullopt;
  if (!length) return std::nullopt;
  OlderSignatureInfo out{.target = std::string(as_text(view_of(attributes->target))),
                         .length = *length,
                         .size = size,
                         .certificate_sha256 = sha256_hex(*certificate)};
  const Certificate parsed = certificate_of(*certificate);
  const SignatureKind* kind = kind_of(all->algorithm);
  if (!parsed || kind == nullptr) return out;
  char name[256] = {};
  X509_NAME_oneline(X509_get_subject_name(parsed.get()), name, sizeof name);
  out.subject = name;
  const Key key(X509_get_pubkey(parsed.get()));
  if (!key || out.length > image.size()) return out;
  out.algorithm = fmt::format("{}-rsa{}", kind->name, EVP_PKEY_get_bits(key.get()));
  const Bytes message =
      signed_message(image.first(static_cast<std::size_t>(out.length)), *spelled, kind->digest);
  out.holds = verify_with(key.get(), kind->digest, message, view_of(all->signature));
  return out;
}

Result<Bytes> make_older_signature(View image, const std::string& target, std::string_view key_text,
                                   std::string_view certificate_text) {
  const Key key = read_pem_private_key(key_text);
  const Certificate certificate = !key ? nullptr
                                  : certificate_text.empty()
                                      ? plain_certificate(key.get())
                                      : read_pem_certificate(certificate_text);
  if (!key || !certificate)
    return fail({.code = ErrorCode::BadValue,
                 .message = !key ? "the key for the older signature does not read"
                                 : "the certificate for the older signature does not read",
                 .expected = !key ? "a PEM private key without a password" : "a PEM certificate"});
  if (X509_check_private_key(certificate.get(), key.get()) != 1) {
    ERR_clear_error();
    return fail({.code = ErrorCode::BadValue,
                 .message = "certificate and key of the older signature do not belong together"});
  }
  const auto attributes = make<SignedAttributes>();
  ASN1_STRING_set(attributes->target, target.data(), static_cast<int>(target.size()));
  ASN1_INTEGER_set_uint64(attributes->length, image.size());
  const Bytes spelled = der_of(attributes.get());
  WEXLO_TRY(const Bytes signature, sign_with(key.get(), DigestKind::Sha256,
                                             signed_message(image, spelled, DigestKind::Sha256)));
  const auto all = make<SignatureSequence>();
  ASN1_INTEGER_set_uint64(all->version, 1);
  set_sequence(all->certificate, der_of_certificate(certificate.get()));
  X509_ALGOR_set0(all->algorithm, OBJ_nid2obj(NID_sha256WithRSAEncryption), V_ASN1_NULL, nullptr);
  set_sequence(all->attributes, spelled);
  ASN1_OCTET_STRING_set(all->signature, raw(View(signature)), static_cast<int>(signature.size()));
  return der_of(all.get());
}

}  // namespace wexlo::verified
