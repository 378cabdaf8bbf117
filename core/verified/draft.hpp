#pragma once
/// A verified-boot struct that is about to be written: from nothing, or from one that is there, of
/// which everything that is not changed is kept. Form: docs/formats/vbmeta.md.

#include "verified/key.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo::verified {

/// A descriptor's bytes, head and padding included. @param like  the descriptor that it takes the
/// place of: its reserved bytes are carried over; empty: zeros
[[nodiscard]] Bytes encode_descriptor(const decltype(Descriptor::value)& value, View like = {});

struct Draft {
  Bytes header;                    ///< 256 bytes; write_struct fills sizes and offsets in
  std::vector<Bytes> descriptors;  ///< each whole, in their order
  Bytes public_key, key_metadata;
  Bytes auxiliary;  ///< of the struct it came from: its order is kept where all sizes stay

  void set_rollback_index(std::uint64_t value);
  void set_rollback_location(std::uint32_t value);  ///< of the top-level struct; 0 is usual
  void set_flags(std::uint32_t value);
  /// Sets or adds the property. nullopt: takes it out.
  void set_property(const std::string& key, const std::optional<std::string>& value);
  /// Puts a hash, hashtree or chain descriptor in the place of the one for that partition (of any
  /// of these kinds), or behind all others. @return whether the draft changed
  bool set_claim(const decltype(Descriptor::value)& value);
  /// The parsed descriptors. They were read or encoded here: always valid.
  [[nodiscard]] std::vector<Descriptor> parsed() const;
};

/// A struct of version 1.0 with nothing in it.
[[nodiscard]] Draft new_draft();
[[nodiscard]] Result<Draft> draft_of(const Image& vbmeta);

/// The finished struct. Without a signer it is unsigned: algorithm none, no key.
/// A new struct's required_version_minor is what its descriptors need; that of one that was there
/// stays.
/// Errors: those of signing; LimitExceeded (larger than loaders read), Unsupported (no algorithm of
/// the digest and the signer's key).
[[nodiscard]] Result<Bytes> write_struct(const Draft& draft, const Signer* signer,
                                         DigestKind digest);

/// The digest that its algorithm signs with; SHA-256 for an unsigned one.
[[nodiscard]] DigestKind signed_digest(const Image& vbmeta);

/// Which partition a hash, hashtree or chain descriptor is about; empty for other kinds.
[[nodiscard]] std::string_view partition_of(const Descriptor& descriptor);

}  // namespace wexlo::verified
