#pragma once
/// Streaming digests over OpenSSL.

#include <memory>
#include <optional>

#include "base/bytes.hpp"

struct evp_md_st;

namespace wexlo {

/// Bytes of the largest image that gets a digest only for the record: decision 13.
inline constexpr std::uint64_t kMostRecorded = 128u << 20;

enum class DigestKind { Md5, Sha1, Sha256, Sha512 };

class Hasher {
 public:
  explicit Hasher(DigestKind kind);
  Hasher(Hasher&&) noexcept;
  Hasher& operator=(Hasher&&) noexcept;
  ~Hasher();
  void update(View bytes);
  /// The digest (16, 20, 32 or 64 bytes); the hasher is used up.
  [[nodiscard]] Bytes finish();

 private:
  friend class SaltedHasher;
  struct State;
  std::unique_ptr<State> state_;
};

/// By its length in bytes; nullopt: of none of them.
[[nodiscard]] std::optional<DigestKind> digest_of_size(std::size_t size);
/// "md5", "sha-1", "sha-256", "sha-512".
[[nodiscard]] std::string_view digest_name(DigestKind kind);

[[nodiscard]] std::size_t digest_size(DigestKind kind);

/// Many digests that begin with the same salt. Safe to use from several threads.
class SaltedHasher {
 public:
  SaltedHasher(DigestKind kind, View salt);
  SaltedHasher(const SaltedHasher&) = delete;
  SaltedHasher& operator=(const SaltedHasher&) = delete;
  ~SaltedHasher();
  /// Writes the digest of salt and `bytes` to the start of `out`.
  void digest(View bytes, MutableView out) const;

 private:
  struct State;
  std::unique_ptr<State> state_;
};

[[nodiscard]] Bytes digest(DigestKind kind, View bytes);
[[nodiscard]] std::string sha256_hex(View bytes);
/// The first digits of a digest in hex, for a sentence or a table: "698e33ec9b920df3…".
[[nodiscard]] std::string short_digest(std::string_view text);

/// OpenSSL's word for it, for those who sign with it.
[[nodiscard]] const evp_md_st* digest_method(DigestKind kind);

}  // namespace wexlo
