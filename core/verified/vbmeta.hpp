#pragma once
/// The verified-boot metadata struct (vbmeta), its descriptors, and the footer that ties one to a
/// partition: docs/formats/vbmeta.md. Everything is big-endian.

#include <string>
#include <variant>
#include <vector>

#include "base/finding.hpp"
#include "base/source.hpp"
#include "image/layout.hpp"

namespace wexlo::verified {

inline constexpr std::string_view kMagic = "AVB0";
inline constexpr std::string_view kFooterMagic = "AVBf";
inline constexpr std::uint64_t kFooterSize = 64;
inline constexpr std::uint64_t kMaxVbmeta = 65536;  ///< bytes that loaders read at most

enum Flags : std::uint32_t { HashtreeDisabled = 1, VerificationDisabled = 2 };

[[nodiscard]] bool looks_like_vbmeta(View start);

/// Sections: authentication, auxiliary; the tail is the partition's padding.
/// Errors: BadMagic, Unsupported (major version), BadValue (block size no multiple of 64, an inner
/// range outside its block), Truncated.
[[nodiscard]] Result<Image> parse_vbmeta(const Blob& bytes);

struct PropertyDescriptor {
  std::string key, value;
};
struct HashtreeDescriptor {
  std::string partition, hash_algorithm;
  std::uint64_t image_size = 0, tree_offset = 0, tree_size = 0, fec_offset = 0, fec_size = 0;
  std::uint32_t data_block_size = 0, hash_block_size = 0, fec_num_roots = 0, flags = 0;
  std::uint32_t dm_verity_version = 1;
  Bytes salt, root_digest;
};
struct HashDescriptor {
  std::string partition, hash_algorithm;
  std::uint64_t image_size = 0;
  std::uint32_t flags = 0;
  Bytes salt, digest;
};
struct CmdlineDescriptor {
  std::uint32_t flags = 0;
  std::string text;
};
struct ChainDescriptor {
  std::string partition;
  std::uint32_t rollback_index_location = 0;
  Bytes public_key;
};
struct UnknownDescriptor {
  std::uint64_t tag = 0;
  std::uint64_t size = 0;
};

struct Descriptor {
  std::uint64_t offset = 0;  ///< in the auxiliary block
  std::variant<PropertyDescriptor, HashtreeDescriptor, HashDescriptor, CmdlineDescriptor,
               ChainDescriptor, UnknownDescriptor>
      value;
  std::uint64_t size = 0;  ///< bytes, its head among them
};

/// All descriptors in their order. Errors (offsets from the start of the struct): BadValue
/// (num_bytes_following no multiple of 8), Truncated (a part outside its descriptor, or a
/// descriptor outside the block).
[[nodiscard]] Result<std::vector<Descriptor>> descriptors(const Image& vbmeta);
enum class Strict {
  All,      ///< every descriptor of a known kind has to read
  Loaders,  ///< those that loaders look into: a property that does not read is an unknown one
};
/// The same for bytes that hold descriptors alone. @param base  their offset, for errors
[[nodiscard]] Result<std::vector<Descriptor>> parse_descriptors(View bytes, std::uint64_t base,
                                                                Strict strict = Strict::All);
[[nodiscard]] Result<std::vector<Descriptor>> descriptors_for_loaders(const Image& vbmeta);

/// "sha256-rsa4096" and the like; "none" for 0; "unknown (N)" for ids not known.
[[nodiscard]] std::string algorithm_name(std::uint64_t algorithm_type);

/// Is the hash in the authentication block that of header and auxiliary block? It is what the
/// signature covers, so an edit by anybody without the key shows. nullopt: the struct has none.
[[nodiscard]] std::optional<bool> own_hash_matches(const Image& vbmeta);

/// The flags' spelling in recipes and output: "hashtree-disabled", "verification-disabled".
[[nodiscard]] std::vector<std::string> flag_names(std::uint64_t flags);
[[nodiscard]] std::optional<std::uint32_t> flag_named(std::string_view name);

struct Footer {
  std::uint64_t original_image_size = 0;  ///< bytes of the image before anything was added
  std::uint64_t vbmeta_offset = 0;        ///< from the partition's start
  std::uint64_t vbmeta_size = 0;
  std::uint64_t end =
      0;  ///< where the footer ends, from the partition's start: the partition's end
};

/// A footer's 64 bytes; nullopt: the magic is not there, or the major version is newer. Where it
/// ends they do not say: `end` is 0.
[[nodiscard]] std::optional<Footer> parse_footer(View raw);
/// Such 64 bytes.
[[nodiscard]] Bytes write_footer(const Footer& footer);
/// Some makers put bytes behind the footer, e.g. a signature that the flashing tool takes off: in
/// this many bytes before a file's end it is looked for. Such a one counts where a struct is found
/// by it.
inline constexpr std::uint64_t kBehindFooter = 16384;

/// The footer at a partition's end, whatever it leads to; nullopt: there is none. Errors: those of
/// reading.
[[nodiscard]] Result<std::optional<Footer>> read_footer(const Source& partition);

/// The footer at the end of an image, or before what a maker put behind it (kBehindFooter); nullopt
/// when there is none. Errors: Unsupported (major version), OutOfRange (it points outside the
/// image).
[[nodiscard]] Result<std::optional<Footer>> find_footer(View image);

/// The struct that an image's own footer leads to; nullopt: there is no footer. Errors: those of
/// find_footer and parse_vbmeta.
[[nodiscard]] Result<std::optional<Image>> own_struct(View image);

/// The hash descriptor that covers the image which carries the struct. A struct may hold those of
/// other partitions, too: where a boot image's own is the top-level one, dtbo's is beside its own.
/// Of several it is the one whose digest matches `content`, else the one of that name.
/// @param content    the image's bytes
/// @param partition  what such an image is usually called, e.g. "boot"
/// @return its index among `all`; nullopt: none with a digest, or nothing tells which
[[nodiscard]] std::optional<std::size_t> own_hash_descriptor(const std::vector<Descriptor>& all,
                                                             View content,
                                                             std::string_view partition);

/// Does the hash descriptor in the image's own footer agree with its bytes? nullopt: no footer, or
/// no hash descriptor with a digest of its own in it.
[[nodiscard]] Result<std::optional<bool>> own_digest_matches(View image);

/// Does a hash descriptor of the struct agree with `content` (its first image_size bytes)? nullopt:
/// there is none with a digest, or it covers more than `content`.
[[nodiscard]] std::optional<bool> hash_matches(const Image& vbmeta, View content);

/// Puts the stock image's tail (padding, and the footer with its vbmeta struct, when there is one)
/// behind changed sections: the partition's size stays, the footer and its hash descriptor are
/// renewed for the new content, a signature goes stale with that.
/// @param image  the changed image, its tail still the stock one
/// @param stock  the stock image's bytes
/// @param flags  what the struct of its footer shall have; nullopt: as it has
/// @return notes for the user, each one sentence. Errors: DoesNotFit (by how many bytes).
[[nodiscard]] Result<std::vector<Remark>> rebuild_tail(Image& image, View stock,
                                                       std::optional<std::uint32_t> flags = {});

/// Whether rebuild_tail makes the older signature of a stock image anew: it was valid, and neither
/// a footer nor something before the image stands in the way.
[[nodiscard]] bool is_older_signature_renewed(const Image& stock, View bytes);

}  // namespace wexlo::verified
