#pragma once
/// The walk that a loader does before it starts anything: from the top-level struct through the
/// chained ones to the partitions they cover. All that it would stumble over is gathered, each
/// with what a locked and an unlocked phone makes of it: docs/verified-boot.md.

#include <map>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "base/finding.hpp"
#include "base/pool.hpp"
#include "verified/tree_check.hpp"

namespace wexlo::verified {

/// What became of a partition: the worst of all that speaks for or against it.
enum class Standing {
  Ok,
  Disabled,  ///< verification is switched off for it
  Unsigned,
  Rollback,
  WrongKey,
  BadSignature,
  DigestMismatch,
  Missing,
};
[[nodiscard]] std::string_view standing_name(Standing standing);  ///< as in JSON

/// Something that the walk stumbled over.
struct Fault {
  FindingCode code;  ///< of a rule: Signature, ImageDigest, …
  std::string partition;
  std::string message;  ///< one sentence
  bool stops_locked = true, stops_unlocked = false;
};

enum class ClaimKind { Hash, Hashtree, Chain };
[[nodiscard]] std::string_view claim_kind_name(ClaimKind kind);   ///< "hash", "hashtree", "chain"
[[nodiscard]] std::string_view claim_kind_about(ClaimKind kind);  ///< "digest", "hash tree", …

/// What a struct says of a partition.
struct Claim {
  ClaimKind kind;
  std::string partition;
  std::uint64_t image_size = 0;  ///< bytes it covers
  std::string algorithm;         ///< of the digest; empty for chains
  Standing standing = Standing::Ok;
  bool looked = false;   ///< false: the partition is not available, or its tree was not asked for
  std::string detail{};  ///< a clause for people
  std::optional<TreeCheck> tree{};
};

enum class SignatureState { Holds, None, Stale, Bad, Unknown };

/// One verified-boot struct, in the order they are loaded; the first is the top.
struct ChainStruct {
  std::string partition;  ///< without slot suffix
  std::string held_by;    ///< the partition it was found in, as it is called
  int parent = -1;        ///< index of the struct that chains it
  std::uint32_t location = 0;
  bool found = false;
  bool in_footer = false;
  std::uint64_t offset = 0, size = 0;  ///< in its partition
  std::string algorithm, key_sha256;   ///< key_sha256 empty: no key
  std::uint64_t rollback_index = 0, flags = 0;
  SignatureState signature = SignatureState::None;
  std::optional<bool> key_expected;  ///< nullopt: nobody says which key is right
  std::vector<Claim> claims;
  std::vector<std::pair<std::string, std::string>> properties;
};

/// Whether a phone starts something.
enum class Outlook {
  Starts,
  Refuses,     ///< a loader stops, or what it starts cannot come up
  CannotTell,  ///< what decides over it is not available, or of a form that is not known
};
[[nodiscard]] std::string_view outlook_name(Outlook outlook);  ///< as in JSON

struct Walk {
  std::vector<ChainStruct> structs;  ///< empty: no top-level struct
  std::vector<Fault> faults;
  std::map<std::string, Standing> standings;  ///< by partition, without suffix
  bool verification_disabled = false, hashtrees_disabled = false;
  std::string digest, digest_algorithm;  ///< of all structs, as loaders hand it to the kernel
  std::uint64_t digest_size = 0;         ///< bytes that it is over
  [[nodiscard]] bool locked_starts() const;
  [[nodiscard]] bool unlocked_starts() const;
  [[nodiscard]] Outlook locked() const;  ///< without a struct, it is another check that decides
  [[nodiscard]] Outlook unlocked() const;
  [[nodiscard]] const Fault* first_stop(bool locked) const;  ///< nullptr: nothing stops it
  /// Chained partitions that were not found, where that was no fault: those of the phone itself
  /// have to do.
  [[nodiscard]] std::vector<std::string> left_to_phone() const;
};

enum class Look {
  Structs,  ///< structs and signatures alone
  Hashes,   ///< the images' digests, too
  Trees,    ///< hash trees and error correction, too
};

struct WalkOptions {
  /// A partition by its full name; nullptr: there is none of that name.
  std::function<Result<SourcePtr>(const std::string& name)> find;
  std::string suffix;                               ///< "_a", "_b" or empty
  Bytes root_key;                                   ///< a blob; empty: the top struct's own
  std::map<std::uint32_t, std::uint64_t> rollback;  ///< stored values by location; others: 0
  Look look = Look::Hashes;
  std::set<std::string> trees{};  ///< partitions whose hash trees are looked at all the same
  /// A chained partition that is not found is missing. false: the phone is taken to have its own.
  bool whole = true;
};

/// Errors: those of finding and reading, Interrupted. What is wrong with the bytes is a fault.
[[nodiscard]] Result<Walk> walk_chain(const WalkOptions& options, const Context& context);

/// What a loader refuses in a struct whatever its lock state: the first thing, as a sentence.
/// @param bytes  from the struct's start; what follows it is ignored
[[nodiscard]] Status loader_accepts(View bytes);

/// Where a partition keeps its struct.
struct StructPlace {
  std::uint64_t offset = 0, size = 0;
  bool in_footer = false;
};
/// By the footer, or at the start for partitions called vbmeta…; nullopt: none. Errors: reading.
[[nodiscard]] Result<std::optional<StructPlace>> find_struct(const Source& partition,
                                                             std::string_view name);

/// Digest of salt and data, as hash descriptors have it.
[[nodiscard]] Bytes salted_digest(DigestKind kind, View salt, View data);
/// Digest of salt and the first `image_size` bytes. Errors: reading, Interrupted.
[[nodiscard]] Result<Bytes> salted_digest(const Source& partition, DigestKind kind, View salt,
                                          std::uint64_t image_size, const Context& context);

/// Does the struct's signature hold with its own key?
[[nodiscard]] SignatureState signature_state(const Image& vbmeta);
[[nodiscard]] View public_key_of(const Image& vbmeta);

}  // namespace wexlo::verified
