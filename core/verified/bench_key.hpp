#pragma once
/// A bench's own key, Ed25519: it signs what the bench has recorded. RFC 8032; the key as PEM.

#include <memory>
#include <string>
#include <string_view>

#include "base/bytes.hpp"
#include "base/error.hpp"

namespace wexlo::verified {

class BenchKey {
 public:
  virtual ~BenchKey() = default;
  /// 32 bytes.
  [[nodiscard]] virtual const Bytes& public_key() const = 0;
  /// 64 bytes.
  [[nodiscard]] virtual Result<Bytes> sign(View message) const = 0;
};
using BenchKeyPtr = std::shared_ptr<const BenchKey>;

/// Errors: BadValue (no private key of this kind in it).
[[nodiscard]] Result<BenchKeyPtr> read_bench_key(std::string_view pem);
/// Errors: besides, those of reading the file.
[[nodiscard]] Result<BenchKeyPtr> load_bench_key(const std::string& file);
/// A new private key as PEM.
[[nodiscard]] Result<std::string> new_bench_key();
/// Whether a message was signed with the key. @param public_key  32 bytes
[[nodiscard]] bool signed_with(View public_key, View message, View signature);

}  // namespace wexlo::verified
