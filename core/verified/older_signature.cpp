#include "verified/older_signature.hpp"

#include <fmt/format.h>
#include <openssl/asn1.h>
#include <openssl/err.h>
#include <openssl/objects.h>

#include <array>

#include "verified/openssl_key.hpp"

namespace wexlo::verified {
namespace {

enum Tag : std::uint8_t {
  Integer = 0x02,
  Octets = 0x04,
  Oid = 0x06,
  Printable = 0x13,
  List = 0x30
};

/// One element: its content, and all of its bytes.
struct Element {
  View content, whole;
};

/// Reads elements one behind the other.
class DerReader {
 public:
  explicit DerReader(View in) : in_(in) {}

  std::optional<Element> next(std::uint8_t tag) {
    if (in_.size() < 2 || std::to_integer<std::uint8_t>(in_[0]) != tag) return std::nullopt;
    std::size_t size = std::to_integer<std::size_t>(in_[1]), head = 2;
    if (size >= 0x80) {
      const std::size_t bytes = size & 0x7f;
      if (bytes == 0 || bytes > 4 || in_.size() < 2 + bytes) return std::nullopt;
      size = 0;
      for (std::size_t i = 0; i < bytes; ++i)
        size = size << 8 | std::to_integer<std::size_t>(in_[2 + i]);
      head += bytes;
    }
    if (size > in_.size() - head) return std::nullopt;
    const Element out{in_.subspan(head, size), in_.first(head + size)};
    in_ = in_.subspan(head + size);
    return out;
  }

 private:
  View in_;
};

std::uint64_t number_of(View content) {
  std::uint64_t out = 0;
  for (const std::byte one : content)
    out = out << 8 | std::to_integer<std::uint64_t>(one);
  return out;
}

Bytes element(std::uint8_t tag, View content) {
  Bytes out{static_cast<std::byte>(tag)};
  if (content.size() < 0x80) {
    out.push_back(static_cast<std::byte>(content.size()));
  } else {
    Bytes size;
    for (std::size_t left = content.size(); left != 0; left >>= 8)
      size.insert(size.begin(), static_cast<std::byte>(left & 0xff));
    out.push_back(static_cast<std::byte>(0x80 | size.size()));
    append(out, View(size));
  }
  append(out, content);
  return out;
}

Bytes number(std::uint64_t value) {
  Bytes content;
  do {
    content.insert(content.begin(), static_cast<std::byte>(value & 0xff));
    value >>= 8;
  } while (value != 0);
  if ((content.front() & std::byte{0x80}) != std::byte{0})
    content.insert(content.begin(), std::byte{0});  // it is no negative one
  return element(Integer, content);
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

const SignatureKind* kind_of(View algorithm) {
  DerReader in(algorithm);
  const auto oid = in.next(Oid);
  if (!oid) return nullptr;
  const unsigned char* at = raw(oid->whole);
  ASN1_OBJECT* object = d2i_ASN1_OBJECT(nullptr, &at, static_cast<long>(oid->whole.size()));
  ERR_clear_error();
  if (object == nullptr) return nullptr;
  const int nid = OBJ_obj2nid(object);
  ASN1_OBJECT_free(object);
  const auto found = std::ranges::find(kKinds, nid, &SignatureKind::nid);
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

Bytes der_of(X509* certificate) {
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
  DerReader outer(at);
  const auto all = outer.next(List);
  if (!all) return std::nullopt;
  DerReader in(all->content);
  const auto version = in.next(Integer);
  const auto certificate = version ? in.next(List) : std::nullopt;
  const auto algorithm = certificate ? in.next(List) : std::nullopt;
  const auto attributes = algorithm ? in.next(List) : std::nullopt;
  const auto signature = attributes ? in.next(Octets) : std::nullopt;
  if (!signature || number_of(version->content) != 1) return std::nullopt;
  DerReader inner(attributes->content);
  const auto target = inner.next(Printable);
  const auto length = target ? inner.next(Integer) : std::nullopt;
  if (!length || length->content.size() > 9) return std::nullopt;
  OlderSignatureInfo out{.target = std::string(as_text(target->content)),
                         .length = number_of(length->content),
                         .size = all->whole.size(),
                         .certificate_sha256 = sha256_hex(certificate->whole)};
  const Certificate parsed = certificate_of(certificate->whole);
  const SignatureKind* kind = kind_of(algorithm->content);
  if (!parsed || kind == nullptr) return out;
  char name[256] = {};
  X509_NAME_oneline(X509_get_subject_name(parsed.get()), name, sizeof name);
  out.subject = name;
  const Key key(X509_get_pubkey(parsed.get()));
  if (!key || out.length > image.size()) return out;
  out.algorithm = fmt::format("{}-rsa{}", kind->name, EVP_PKEY_get_bits(key.get()));
  const Bytes message = signed_message(image.first(static_cast<std::size_t>(out.length)),
                                       attributes->whole, kind->digest);
  out.holds = verify_with(key.get(), kind->digest, message, signature->content);
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
  Bytes inner = element(Printable, as_view(target));
  append(inner, View(number(image.size())));
  const Bytes attributes = element(List, inner);
  WEXLO_TRY(const Bytes signature,
            sign_with(key.get(), DigestKind::Sha256,
                      signed_message(image, attributes, DigestKind::Sha256)));
  // 1.2.840.113549.1.1.11, no parameters
  constexpr std::array<std::uint8_t, 15> kAlgorithm{0x30, 0x0D, 0x06, 0x09, 0x2A, 0x86, 0x48, 0x86,
                                                    0xF7, 0x0D, 0x01, 0x01, 0x0B, 0x05, 0x00};
  Bytes all = number(1);
  append(all, View(der_of(certificate.get())));
  append(all, View(reinterpret_cast<const std::byte*>(kAlgorithm.data()), kAlgorithm.size()));
  append(all, View(attributes));
  append(all, View(element(Octets, signature)));
  return element(List, all);
}

}  // namespace wexlo::verified
