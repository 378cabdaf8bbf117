#pragma once
/// Streaming digests over OpenSSL.

#include <memory>

#include "base/bytes.hpp"

namespace wexlo {

enum class DigestKind { Sha1, Sha256, Sha512 };

class Hasher {
 public:
  explicit Hasher(DigestKind kind);
  Hasher(Hasher&&) noexcept;
  Hasher& operator=(Hasher&&) noexcept;
  ~Hasher();
  void update(View bytes);
  /// The digest (20, 32 or 64 bytes); the hasher is used up.
  [[nodiscard]] Bytes finish();

 private:
  struct State;
  std::unique_ptr<State> state_;
};

[[nodiscard]] Bytes digest(DigestKind kind, View bytes);
[[nodiscard]] std::string sha256_hex(View bytes);

}  // namespace wexlo
