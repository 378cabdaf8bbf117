#include "verified/kept_signer.hpp"

#include <vector>

#include "verified/chain.hpp"

namespace wexlo::verified {
namespace {

class KeptSigner final : public Signer {
 public:
  KeptSigner(Bytes blob, std::vector<Bytes> signatures)
      : Signer(std::move(blob)), signatures_(std::move(signatures)) {}

 private:
  Result<Bytes> make(DigestKind kind, View digest) const override {
    for (const Bytes& one : signatures_)
      if (signature_holds(public_key(), kind, digest, one)) return one;
    return fail({.code = ErrorCode::BadSignature,
                 .message = "the owner's key has not signed these bytes",
                 .expected = "a signature of " +
                             hex(digest.first(std::min<std::size_t>(digest.size(), 8))) +
                             "… in the kit's images",
                 .found = "signatures of other bytes",
                 .hint = "With the private key itself the images can be signed again: --key KEY."});
  }
  std::vector<Bytes> signatures_;
};

}  // namespace

SignerPtr kept_signer(std::span<const Image> structs, const std::string& key_sha256) {
  Bytes blob;
  std::vector<Bytes> signatures;
  for (const Image& one : structs) {
    const View key = public_key_of(one);
    if (sha256_hex(key) != key_sha256) continue;
    blob = to_bytes(key);
    const View authentication = one.section("authentication")->bytes.view();
    signatures.push_back(to_bytes(
        authentication.subspan(one.number("signature_offset"), one.number("signature_size"))));
  }
  if (blob.empty()) return nullptr;
  return std::make_shared<KeptSigner>(std::move(blob), std::move(signatures));
}

}  // namespace wexlo::verified
