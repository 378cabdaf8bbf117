#pragma once
/// One image with its verified-boot footer renewed: docs/formats/vbmeta.md, "Building a footer".

#include "firmware/content.hpp"
#include "verified/draft.hpp"
#include "verified/hash_tree.hpp"

namespace wexlo {

enum class FooterKind { Hash, Tree };

struct FooterWish {
  std::string partition;             ///< as the claim names it
  std::uint64_t partition_size = 0;  ///< bytes; the footer stands at its end
  FooterKind kind = FooterKind::Hash;
  std::string algorithm = "sha256";  ///< of the claim: "sha1" (trees only), "sha256", "sha512"
  Bytes salt;
  std::uint32_t claim_flags = 0;
  unsigned fec_roots = 0;  ///< of a tree; 0: no error correction
  verified::Draft draft;   ///< what the struct has besides the claim
  const verified::Signer* signer = nullptr;
  DigestKind signed_digest = DigestKind::Sha256;
};

struct Footed {
  decltype(verified::Descriptor::value) claim;  ///< as it stands in the struct
  Bytes vbmeta;
  verified::Footer footer;
};

/// Writes the first `kept` bytes of an image, then what the wish asks for, to a sink of the
/// partition's size. @param content_size  bytes of the image itself; at most `kept`
/// Errors: DoesNotFit (by how many bytes), Unsupported (the algorithm), those of signing, reading
/// and writing.
[[nodiscard]] Result<Footed> write_footed(const Source& image, std::uint64_t content_size,
                                          std::uint64_t kept, const FooterWish& wish,
                                          ImageSink& out, const Context& context);

/// How an image stands now: what of it is content, and what its footer says.
struct FooterState {
  std::uint64_t content_size = 0, kept = 0;  ///< bytes, as write_footed wants them
  std::optional<verified::Footer> footer;
  std::optional<verified::Draft> draft;  ///< of the footer's struct
  bool was_signed = false;
  DigestKind signed_digest = DigestKind::Sha256;
  std::optional<verified::HashDescriptor> hash;  ///< its own claim, where it has one
  std::optional<verified::HashtreeDescriptor> tree;
};
/// Errors: those of reading, and of a footer that does not lead to a struct.
[[nodiscard]] Result<FooterState> footer_state(const Source& image);

/// Whether a sink holds what was written to it at `at`. Errors: Unexplained (with the first byte
/// that differs), those of reading.
[[nodiscard]] Status check_written(ImageSink& out, std::uint64_t at, View meant);

/// Writes what a stock image has from `from` on to the same place of the sealed one, and makes a
/// sealed block there valid for it where it was valid. Errors: those of reading and writing.
[[nodiscard]] Status keep_end(const Source& stock, std::uint64_t from, ImageSink& out);
/// The block alone, of an image whose end is written already; others are left as they are.
/// @param size  of the sealed image, bytes; what `stock` has beyond it is zeros
/// Errors: LimitExceeded (the image is too large to be read whole), those of reading and writing.
[[nodiscard]] Status renew_sealed_block(const Source& stock, std::uint64_t from, std::uint64_t size,
                                        ImageSink& out);

/// A salt where nobody gave one: from the partition's name and the image's size, so that the same
/// input gives the same bytes.
[[nodiscard]] Bytes usual_salt(const std::string& partition, std::uint64_t content_size);

}  // namespace wexlo
