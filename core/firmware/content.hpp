#pragma once
/// One partition's bytes, however a package stores them.

#include <algorithm>
#include <map>
#include <optional>

#include "base/digest.hpp"
#include "base/output.hpp"
#include "base/pool.hpp"
#include "base/source.hpp"

namespace wexlo {

/// Where an image's bytes go: any order, several threads, no range twice. Unwritten bytes are 0.
class ImageSink {
 public:
  virtual ~ImageSink() = default;
  [[nodiscard]] virtual Status resize(std::uint64_t size) = 0;
  [[nodiscard]] virtual Status write_at(std::uint64_t offset, View bytes) = 0;
  [[nodiscard]] virtual Status read_at(std::uint64_t offset, MutableView out) = 0;
};

/// An image in memory.
class MemorySink final : public ImageSink {
 public:
  Status resize(std::uint64_t size) override {
    bytes_.resize_zeroed(static_cast<std::size_t>(size));
    return {};
  }
  // Writers keep to the size they set and to ranges of their own.
  Status write_at(std::uint64_t offset, View bytes) override {
    std::ranges::copy(bytes, bytes_.view().begin() + static_cast<std::ptrdiff_t>(offset));
    return {};
  }
  Status read_at(std::uint64_t offset, MutableView out) override {
    std::ranges::copy(bytes_.view().subspan(static_cast<std::size_t>(offset), out.size()),
                      out.begin());
    return {};
  }
  [[nodiscard]] Blob take() { return bytes_.release(); }

 private:
  RawBuffer bytes_;
};

/// An image in a file that is being written. Zero blocks are not written: they stay holes.
[[nodiscard]] std::unique_ptr<ImageSink> file_sink(OutputFile& file);

/// An image in a temporary file. @param scratch  lives as long
[[nodiscard]] std::unique_ptr<ImageSink> scratch_sink(const Scratch& scratch);

/// Most that is read of a package to show one partition's first bytes.
inline constexpr std::uint64_t kHeadBudget = 48u << 10;

/// What a whole reading has shown.
struct Verified {
  std::string sha256;  ///< of the image, lower-case hex; empty: not asked for
  /// What was promised of all its bytes and matches, e.g. "sha-256", "crc-32"; empty: nothing was.
  std::string proof;
  std::string remark;  ///< what was noticed on the way: Source::remark
};

/// No phone's partition is larger: more than this is written only when the user says so.
inline constexpr std::uint64_t kMostImage = std::uint64_t{32} << 30;
/// LimitExceeded, when an image of `size` bytes is larger than the user allows (Context's
/// decode_bound), or than any partition. A file of some bytes can claim any size.
[[nodiscard]] Status check_image_size(std::uint64_t size, const std::string& name,
                                      const Context& context);

struct ReadOptions {
  bool digest = true;  ///< false: no SHA-256 where nothing promises one
};

class Content {
 public:
  virtual ~Content() = default;
  /// The first bytes, up to `count` (4096 at most); fewer where more cannot be had within
  /// kHeadBudget. Errors: those of reading.
  [[nodiscard]] virtual Result<Bytes> head(std::size_t count) const = 0;
  /// The image for random access. What cannot be read so goes through a temporary file.
  [[nodiscard]] virtual Result<SourcePtr> source(const Context& context) const = 0;
  /// All of it, every promise on the way checked. Errors: DigestMismatch, Corrupt, Truncated,
  /// OutOfRange, Unsupported, LimitExceeded, Interrupted, and those of the sink.
  [[nodiscard]] virtual Result<Verified> read(ImageSink& sink, const ReadOptions& options,
                                              const Context& context) const = 0;
  /// It keeps all of `context.jobs` busy by itself.
  [[nodiscard]] virtual bool parallel() const { return false; }
  /// As Source::stream: contents of the same stream are read one after the other.
  [[nodiscard]] virtual const void* stream() const { return nullptr; }
};
using ContentPtr = std::shared_ptr<const Content>;

/// A digest that something promises of an image.
struct Promise {
  DigestKind kind = DigestKind::Sha256;
  std::string hex;  ///< lower-case
  std::string by;   ///< who says so, for messages: "flash.xml"
};

/// An image that is a source as it is.
[[nodiscard]] ContentPtr content_of(SourcePtr source, std::vector<Promise> promises = {});

/// A partition that is known of and cannot be read: every use gives this error.
[[nodiscard]] ContentPtr unreadable(Error why);

/// Copies a source into a sink, holes as holes; digests run beside.
[[nodiscard]] Result<Verified> copy_source(const Source& source,
                                           const std::vector<Promise>& promises, ImageSink& sink,
                                           const ReadOptions& options, const Context& context);

/// A sink in a temporary file, for what has to be read at random.
[[nodiscard]] Result<SourcePtr> spill(const Content& content, std::uint64_t size,
                                      const std::string& name, const Context& context);

/// SHA-256 of what a sink holds, lower-case hex. Errors: Interrupted, Io.
[[nodiscard]] Result<std::string> digest_of(ImageSink& sink, std::uint64_t size,
                                            const Context& context);

/// Whether all bytes are 0; quick.
[[nodiscard]] bool all_zero(View bytes);

}  // namespace wexlo
