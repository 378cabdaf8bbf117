#pragma once
/// Firmware, whatever its container: named partitions that can be read, and what is known of the
/// build. A new container is one new module plus one row in formats.cpp.

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "base/output.hpp"
#include "base/pool.hpp"
#include "base/source.hpp"

namespace wexlo {

/// What a package says of the build it holds; empty where it says nothing.
struct BuildFacts {
  std::string fingerprint;
  std::string device;                      ///< codename
  std::string patch_level;                 ///< YYYY-MM-DD
  std::optional<std::uint64_t> timestamp;  ///< seconds since 1970
  std::string incremental;                 ///< the build number
};

/// One shell of the container, outermost first.
struct Layer {
  std::string kind;    ///< "zip", "payload"
  std::string detail;  ///< e.g. "version 2, full"
};

struct PartitionFacts {
  std::string name;
  std::uint64_t size = 0;         ///< bytes of the finished image
  std::uint64_t stored_size = 0;  ///< bytes it takes in the package
  std::size_t operations = 0;
  std::string sha256;  ///< lower-case hex; empty when the package gives none
};

/// Where an image's bytes go: any order, several threads, no range twice. Unwritten bytes are 0.
class ImageSink {
 public:
  virtual ~ImageSink() = default;
  [[nodiscard]] virtual Status resize(std::uint64_t size) = 0;
  [[nodiscard]] virtual Status write_at(std::uint64_t offset, View bytes) = 0;
  [[nodiscard]] virtual Status read_at(std::uint64_t offset, MutableView out) = 0;
};

class Firmware {
 public:
  virtual ~Firmware() = default;
  [[nodiscard]] virtual const std::vector<PartitionFacts>& partitions() const = 0;
  /// Reads one partition into `sink` and gives its SHA-256 (lower-case hex); every digest on the
  /// way checked; only that partition's own bytes are read. Errors: DigestMismatch (operation,
  /// offset, both digests), Corrupt, Truncated, OutOfRange, Unsupported (the operation's kind),
  /// LimitExceeded, Interrupted.
  [[nodiscard]] virtual Result<std::string> read(const PartitionFacts& partition, ImageSink& sink,
                                                 const Context& context) const = 0;

  [[nodiscard]] const PartitionFacts* find(std::string_view name) const;  ///< nullptr: not there
  [[nodiscard]] const BuildFacts& build() const { return build_; }
  [[nodiscard]] const std::vector<Layer>& layers() const { return layers_; }
  [[nodiscard]] bool incremental() const { return incremental_; }

 protected:
  BuildFacts build_;
  std::vector<Layer> layers_;  ///< outermost first
  bool incremental_ = false;
  friend Result<std::unique_ptr<Firmware>> open_ota_zip(SourcePtr source);
};

/// A partition's name as a file name: letters, digits, `_`, `-` and `.`, not first.
/// Errors: UnsafePath.
[[nodiscard]] Status check_partition_name(std::string_view name);

/// A whole partition in memory. Errors: as Firmware::read, LimitExceeded over `limit` bytes.
[[nodiscard]] Result<Blob> read_partition(const Firmware& firmware, const PartitionFacts& partition,
                                          std::uint64_t limit, const Context& context);

struct ReadPartition {
  OutputFile file;     ///< not yet committed
  std::string sha256;  ///< of what was read, lower-case hex
};
[[nodiscard]] Result<ReadPartition> read_partition(const Firmware& firmware,
                                                   const PartitionFacts& partition,
                                                   const std::filesystem::path& target,
                                                   Overwrite overwrite, const Context& context);

/// SHA-256 of what a sink holds. Errors: Interrupted, Io.
[[nodiscard]] Result<Bytes> digest_of(ImageSink& sink, std::uint64_t size, const Context& context);

}  // namespace wexlo
