#pragma once
/// Judging a set of images: valid or not, whether a phone would start it, and what another tool's
/// patch did: docs/checks.md, docs/verified-boot.md.

#include <map>

#include "check/against.hpp"
#include "judge/phone_set.hpp"

namespace wexlo {

struct CheckOptions {
  std::string against;         ///< stock firmware of the phone; empty: none
  Bytes key;                   ///< the root key that the phone trusts, a blob; empty: see RootKey
  std::optional<bool> locked;  ///< the phone's state, where it is known
  std::map<std::uint32_t, std::uint64_t> rollback;  ///< stored indexes by location
  std::string slot;                                 ///< "a", "b" or empty
  bool trees = true;                                ///< hash trees of what is here, too
  bool whole = false;  ///< a partition that is not here is missing, not only left to the phone
};

/// Where the trusted root key is from.
enum class RootKey { Given, Stock, Own };

struct CheckedPartition {
  std::string name, status;  ///< verified::standing_name
  std::uint64_t size = 0;
  std::string detail;
};

/// What happens at power-on.
struct Verdict {
  verified::Outlook outlook = verified::Outlook::CannotTell;
  std::string sentence;
  [[nodiscard]] bool starts() const { return outlook == verified::Outlook::Starts; }
};

enum class CheckedKind : std::uint8_t { Image, Set, Kit };
/// As JSON has it.
[[nodiscard]] std::string_view checked_name(CheckedKind kind);

struct Checked {
  CheckedKind kind = CheckedKind::Image;
  std::vector<CheckedPartition> partitions;
  Verdict locked, unlocked;
  /// Nobody said the phone's state, and what was given is made for an unlocked one.
  bool taken_unlocked = false;
  bool startable = true;  ///< no rule beside verified boot found a problem
  verified::Walk walk;
  RootKey root = RootKey::Own;
  std::string slot;
  std::vector<Finding> findings;
  std::vector<AgainstStock> against;  ///< of the given images, against the stock firmware's
};

/// Errors: those of opening and reading the paths, Interrupted. What is wrong with images is told
/// in the findings.
[[nodiscard]] Result<Checked> check_paths(const std::vector<std::string>& paths,
                                          const CheckOptions& options, const Context& context);

/// An image with its bad blocks given again.
struct RepairedImage {
  std::string partition;
  SourcePtr source;
  std::vector<verified::Repaired> blocks;
};
/// Those partitions of a set whose hash trees have bad blocks that their error correction gives
/// again. Errors: NoMatch (nothing to repair, or it cannot be), those of reading.
[[nodiscard]] Result<std::vector<RepairedImage>> repair_images(
    const std::vector<std::string>& paths, const CheckOptions& options, const Context& context);

}  // namespace wexlo
