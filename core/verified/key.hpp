#pragma once
/// Keys of verified boot: the format's own public key blob, PEM files, signing: over OpenSSL.
/// Source of the blob's and the signature's form: docs/formats/vbmeta.md.

#include <filesystem>
#include <memory>
#include <optional>
#include <string>

#include "base/digest.hpp"
#include "base/pool.hpp"

namespace wexlo::verified {

/// A row of the format's list of algorithms: RSA with PKCS#1 v1.5 padding over a digest.
struct Algorithm {
  std::uint32_t id = 0;  ///< algorithm_type
  DigestKind digest = DigestKind::Sha256;
  unsigned bits = 0;  ///< of the key
};
/// Ids 1 to 6; nullopt for 0 (none) and for ids not known.
[[nodiscard]] std::optional<Algorithm> algorithm_of(std::uint64_t id);
/// nullopt: the format has none (a digest other than SHA-256 and SHA-512, a key of other bits).
[[nodiscard]] std::optional<Algorithm> algorithm_for(DigestKind digest, unsigned bits);

/// A public key: the blob's number of bits, 0 when the bytes are no valid blob. Valid means that
/// every number in it is exact: loaders calculate with them as they stand.
[[nodiscard]] unsigned key_bits(View blob);

/// A public key as a blob, out of a PEM file's bytes (public key, certificate, private key) or a
/// blob's. Errors: BadValue (neither, or numbers in the blob that are not exact), Unsupported (no
/// RSA key of 2048, 4096 or 8192 bits with exponent 65537).
[[nodiscard]] Result<Bytes> read_public_key(View file);
/// The same for a file; the error names it.
[[nodiscard]] Result<Bytes> load_public_key(const std::filesystem::path& file);
/// PEM text (SubjectPublicKeyInfo) of a valid blob.
[[nodiscard]] std::string public_key_pem(View blob);

/// PKCS#1 v1.5 over a digest, verified with a blob. A blob that is not valid verifies nothing.
[[nodiscard]] bool signature_holds(View blob, DigestKind kind, View digest, View signature);

/// Something that signs: a key in memory, or a program that has it.
class Signer {
 public:
  virtual ~Signer() = default;
  [[nodiscard]] const Bytes& public_key() const { return blob_; }  ///< the blob
  [[nodiscard]] unsigned bits() const { return key_bits(blob_); }
  /// Errors: those of the program, BadSignature (what came back is not valid).
  [[nodiscard]] Result<Bytes> sign(DigestKind kind, View digest) const;

 protected:
  explicit Signer(Bytes blob) : blob_(std::move(blob)) {}

 private:
  [[nodiscard]] virtual Result<Bytes> make(DigestKind kind, View digest) const = 0;
  Bytes blob_;
};
using SignerPtr = std::shared_ptr<const Signer>;

/// A private key in PEM. Errors: BadValue (no private key, or one with a password), Unsupported.
[[nodiscard]] Result<SignerPtr> signer_of(std::string_view pem);
[[nodiscard]] Result<SignerPtr> load_signer(const std::filesystem::path& file);

/// A program that keeps the key: started as `PROGRAM REQUEST.toml ANSWER.bin`, it reads what is to
/// be signed (`algorithm`, e.g. "sha256-rsa2048"; `digest` and the public key blob's `key_sha256`
/// in hex) and writes the bare signature (as many bytes as the key's modulus) into the second file,
/// which is not there yet. It is ended after a minute, and when the user stops the job.
[[nodiscard]] SignerPtr program_signer(std::filesystem::path program, Bytes public_key,
                                       const Context& context);

/// A new private key, PEM (PKCS#8). @param bits  2048, 4096 or 8192
[[nodiscard]] Result<std::string> new_private_key(unsigned bits, const Context& context = {});

/// Whether others than its owner may read a file.
[[nodiscard]] bool is_readable_by_others(const std::filesystem::path& file);

}  // namespace wexlo::verified
