#pragma once
/// A small phone under verified boot: vbmeta covers init_boot by a digest and for system by a
/// hash tree with error correction, and chains boot at location 1. Every part can be spoilt and
/// signed again.

#include "base/pool.hpp"
#include "verified/chain.hpp"
#include "verified/draft.hpp"

namespace wexlo::test {

/// Keys of 2048 bits, made once a run: the phone's root, boot's own, and another tool's.
enum class KeyOf { Root, Boot, Stranger };
[[nodiscard]] const verified::Signer& signer(KeyOf whose);
[[nodiscard]] const std::string& private_pem(KeyOf whose);

inline constexpr std::uint64_t kRollback = 7;

struct SignedSet {
  std::map<std::string, Bytes> images;
  verified::Draft top, boot;  ///< of vbmeta, and of boot's footer
  std::uint64_t boot_content = 0;

  /// Writes vbmeta again from its draft. nullptr: unsigned
  void write_top(const verified::Signer* by = &signer(KeyOf::Root));
  /// Writes boot's struct again; its claim keeps what it says.
  void write_boot(const verified::Signer* by = &signer(KeyOf::Boot));
  [[nodiscard]] verified::Walk walk(verified::Look look = verified::Look::Trees,
                                    std::map<std::uint32_t, std::uint64_t> rollback = {}) const;
  [[nodiscard]] Bytes& at(const std::string& partition) { return images.at(partition); }
};
[[nodiscard]] SignedSet signed_set();

}  // namespace wexlo::test
