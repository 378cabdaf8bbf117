#pragma once
/// A kernel as it stands in a boot image: perhaps wrapped, compressed, with device trees behind it:
/// docs/formats/kernel.md. Nothing here fails: what is not recognised is told as unknown.

#include <optional>
#include <vector>

#include "codec/codec.hpp"
#include "image/device_tree.hpp"

namespace wexlo::kernel {

struct Kernel {
  std::string form;          ///< "arm64 Image", "ARM zImage", "x86 bzImage", "EFI zboot", "unknown"
  std::string architecture;  ///< "arm64", "arm", "x86_64", "x86", "riscv64"; empty: not known
  /// Of the whole ("gzip", "lz4-legacy", …), or of the kernel that unpacks itself; "none".
  std::string compression = "none";
  std::string wrapping;            ///< "chipset part header KERNEL", "uImage NAME"; empty: none
  std::string banner;              ///< the `Linux version` line; empty: none found
  std::string release;             ///< its third word, e.g. "5.10.157-android13-4"
  std::string config;              ///< text of the embedded configuration; empty: none
  std::uint64_t decoded_size = 0;  ///< bytes, where it is compressed
  std::uint32_t page_size = 0;     ///< bytes of a page of memory; 0: it does not say
  std::string ramdisk_word;        ///< see other_ramdisk_word
  std::string trouble;             ///< why it could not be looked into, where that went wrong
  std::uint64_t trees_at = 0;      ///< where the device trees begin, from the section's start
  Blob trees;                      ///< from there to the section's end; empty: none
};

/// @param section  the kernel section's bytes
/// @param limit    what a compressed kernel may decode to
[[nodiscard]] Kernel read(const Blob& section, const DecodeLimit& limit = {.bytes = 256u << 20});

/// Whether a kernel begins here, plain or compressed, of a kind that is known.
[[nodiscard]] bool looks_like_kernel(View start);

/// Bytes that stand before the kernel in its section: a chipset part header, a uImage header, or
/// the mark of an uncompressed kernel with its size.
[[nodiscard]] std::size_t wrapping_size(View section);

/// Appended trees in what follows a kernel: the first place from `from` on from which trees run on
/// to the end, but for padding or a little that a maker left behind them.
[[nodiscard]] std::optional<std::size_t> find_trees(const Blob& section, std::size_t from);

/// The payload of a kernel that unpacks itself: the first stream that decodes to a kernel.
struct Payload {
  std::size_t at = 0;
  Compression kind = Compression::None;
  Decoded decoded;
};
[[nodiscard]] std::optional<Payload> find_payload(View bytes, DecodeLimit limit);

/// The kernel as it runs, taken out of its section so that bytes of it can be replaced.
struct Body {
  Compression compression = Compression::None;
  Framing framing;
  std::uint64_t begin = 0, end = 0;  ///< of the stream (or of the plain kernel) in the section
  bool inside = false;               ///< the payload of a kernel that unpacks itself
  Blob decoded;
};
/// Errors: Unsupported (a form that cannot be put together again: EFI zboot, bzImage), those of
/// decode().
[[nodiscard]] Result<Body> open_body(const Blob& section, const DecodeLimit& limit = {});

/// Bytes of the header around a u-boot image, and of the mark `UNCOMPRESSED_IMG` with its u32 size.
inline constexpr std::size_t kUImageHeader = 64, kSizedHeader = 20;
/// Size of the kernel behind that mark, where it can be true; nullopt: there is no such mark.
[[nodiscard]] std::optional<std::uint64_t> marked_size(View section);

/// The kernel's word for skipping boot's ramdisk, and ours that takes its place: as long, so that
/// nothing in the kernel moves.
inline constexpr std::string_view kSkipWord = "skip_initramfs", kKeepWord = "wexlo_ramdisks";
/// Places of a word that stands alone: neither letters, digits nor `_` on its sides.
[[nodiscard]] std::vector<std::size_t> whole_words(View bytes, std::string_view word);
/// A word of the same length that another tool put in the place of kSkipWord: it stands alone and
/// ends in `_initramfs`. Empty: there is none.
[[nodiscard]] std::string other_ramdisk_word(View kernel);
/// Whether a kernel knows either word. @param section  may be null or empty: false
[[nodiscard]] bool may_skip_ramdisk(const Section* section, const DecodeLimit& limit = {});

/// Sizes and sums in front of the kernel follow what is behind them now, where they were true.
/// @param stock  the section as it was
void renew_wrapping(Bytes& section, View stock);

/// The section with another kernel in it, of any size, packed as the stock one; what stands before
/// it is renewed, appended trees are kept. Where the kernel unpacks itself the packed payload must
/// not grow. Errors: DoesNotFit, and those of encode().
/// @param behind  what follows the kernel then; nullopt: what followed it
[[nodiscard]] Result<Bytes> with_body(const Blob& section, const Body& body, const Blob& decoded,
                                      const Context& context,
                                      std::optional<View> behind = std::nullopt);

/// The section with `fresh` in the place of its packed kernel, packed as that was. Trees behind
/// `fresh` take the place of the stock ones; without any those stay. nullopt: the stock kernel is
/// not packed as a whole, or `fresh` is no plain kernel. Errors: those of encode().
[[nodiscard]] Result<std::optional<Bytes>> packed_as_stock(const Blob& section, const Blob& fresh,
                                                           const Context& context);

/// Whether the kernel as it runs is less than its section: packed, wrapped, or with more behind it.
[[nodiscard]] bool is_within(const Body& body, const Blob& section);

}  // namespace wexlo::kernel
