#pragma once
/// What a struct says of a partition, held against the partition.

#include "verified/chain.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo::verified {

/// Writes what it finds into a walk and its claims. All that is given has to live as long as it.
class ClaimJudge {
 public:
  ClaimJudge(const WalkOptions& options, const Context& context, Walk& out)
      : options_(options), context_(context), out_(out) {}

  void fault(FindingCode code, const std::string& partition, Standing standing, std::string message,
             bool locked = true, bool unlocked = false);
  void stand(const std::string& partition, Standing standing);
  void missing(Claim& claim);

  /// @param partition  nullptr: it is not there  @param holder  of the struct
  [[nodiscard]] Status hash(Claim& claim, const HashDescriptor& said, const SourcePtr& partition,
                            const std::string& holder);
  /// The hash tree, every block, and the error correction codes.
  [[nodiscard]] Status tree(Claim& claim, const HashtreeDescriptor& said, const Source& partition);

 private:
  void blame(Claim& claim, FindingCode code, Standing standing, std::string message,
             bool locked = true, bool unlocked = false);
  [[nodiscard]] Status fec(Claim& claim, const HashtreeDescriptor& said, const Source& partition);

  const WalkOptions& options_;
  const Context& context_;
  Walk& out_;
};

}  // namespace wexlo::verified
