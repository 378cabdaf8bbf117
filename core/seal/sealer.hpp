#pragma once

#include <cstdint>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "seal/seal.hpp"
#include "seal/seal_image.hpp"

/// Inside of this room: what sealer.cpp (images with a footer) and seal_struct.cpp (vbmeta images)
/// share.
namespace wexlo {

using FooterClaim = decltype(verified::Descriptor::value);

/// What a sealed image with a footer offers to the struct that covers it.
struct Offer {
  std::string partition;
  std::optional<FooterClaim> claim;  ///< none: a vbmeta image
  std::vector<Bytes> beside;         ///< properties and command lines of its struct
  bool is_signed = false;            ///< with the given key
};

/// One run of seal_images: what was given must outlive it.
class Sealer {
 public:
  Sealer(const std::vector<SealInput>& images, const SealOptions& options, const OpenSink& open,
         const Context& context)
      : images_(images), options_(options), open_(open), context_(context) {}

  Result<Sealed> run();

 private:
  static constexpr std::uint64_t kBlock = 4096;  ///< bytes; what partitions are counted in

  Status usage(std::string message, std::string hint) const {
    return fail({.code = ErrorCode::Usage, .message = std::move(message), .hint = std::move(hint)});
  }

  /// Every value has an image it is for.
  Status check_names() const;
  bool is_top(const std::string& partition) const {
    return partition == "vbmeta" || !chained_.contains(partition);
  }

  /// Partitions that a given vbmeta image chains.
  Status read_chained();
  static Result<Image> read_struct(const Source& source);
  /// Rollback index, flags and properties asked for.
  Status apply_values(verified::Draft& draft, const std::string& partition,
                      SealedImage& sealed) const;

  DigestKind signing_digest(DigestKind before) const {
    return options_.signed_digest.value_or(before);
  }

  std::optional<std::uint64_t> size_of(const std::string& partition) const {
    const auto named = options_.sizes.find(partition), only = options_.sizes.find("");
    if (named != options_.sizes.end()) return named->second;
    // Without a name it is the given image's, never that of a struct made besides.
    const bool mine = only != options_.sizes.end() && partition == images_.front().partition;
    return mine ? std::optional(only->second) : std::nullopt;
  }

  void note(Level level, FindingId id, std::string message, const std::string& where) {
    out_.findings.push_back({level, std::move(id), std::move(message), where});
  }

  void finish(SealedImage sealed, const verified::Signer* signer, DigestKind digest);

  void unsigned_now(const std::string& partition);

  Status footed(const SealInput& input);
  FooterWish wish_for(const SealInput& input, const FooterState& state, std::uint64_t size) const;
  Status plain(const SourcePtr& source, SealedImage sealed);
  Status reseal(const SealInput& input);
  /// A struct's image as it was given.
  struct Stock {
    const Image* image;
    const Source* source;
  };
  Status write_struct_image(const verified::Draft& draft, std::uint64_t old_size,
                            const Stock* before, const std::string& partition, SealedImage sealed);
  Status keep_behind(const Stock& before, std::uint64_t struct_size, std::uint64_t size,
                     ImageSink& sink) const;
  Status make_vbmeta();
  bool take_offers(verified::Draft& draft, SealedImage& sealed, const std::string& partition);
  Status add_includes(verified::Draft& draft, SealedImage& sealed);

  const std::vector<SealInput>& images_;
  const SealOptions& options_;
  const OpenSink& open_;
  const Context& context_;
  std::set<std::string> chained_;
  std::vector<Offer> offers_;
  bool any_struct_ = false;
  Sealed out_;
};

}  // namespace wexlo
