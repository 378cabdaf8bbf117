#pragma once
/// Firmware, whatever its container: named partitions that can be read, and what is known of the
/// build. A new container is one new module plus one row in format_table.cpp.

#include <optional>
#include <string>
#include <vector>

#include "archive/tar.hpp"
#include "base/finding.hpp"
#include "firmware/content.hpp"
#include "image/partitions.hpp"

namespace wexlo {

/// What a package says of the build it holds; empty where it says nothing.
struct BuildFacts {
  std::string fingerprint;
  std::string device;          ///< codename
  std::string checked_device;  ///< where the package itself checks for it: the phone answers so
  std::string patch_level;     ///< YYYY-MM-DD
  std::optional<std::uint64_t> timestamp;  ///< seconds since 1970
  std::string incremental;                 ///< the build number
  std::string base;        ///< fingerprint of the build that an incremental package wants to find
  std::string region;      ///< region or variant, as the package spells it
  std::string baseband;    ///< version
  std::string bootloader;  ///< version
  std::string sdk_level;
  std::optional<std::uint64_t> anti_rollback;  ///< its maker's number; a phone's must not be higher
  std::string model;                           ///< as the names of a download-mode set spell it
  /// The number in those names: a phone whose bootloader has a higher one in that place refuses.
  std::optional<unsigned> binary;
  std::vector<std::string> demands;  ///< lines of its own on what it may be flashed to
  /// Takes over what is empty here.
  void merge(const BuildFacts& other);
};

/// One shell of the container, outermost first.
struct Layer {
  std::string kind;    ///< "zip", "payload"
  std::string detail;  ///< e.g. "version 2, full"
  bool operator==(const Layer&) const = default;
};

/// What a package shows of how phones take it: clauses for people; empty: nothing.
struct FlashingSigns {
  std::string download, bootloader;
  /// Takes over what is empty here.
  void merge(const FlashingSigns& other);
};

/// A sum that covers a whole package file, checked when something is taken out of it.
struct PackageSum {
  SourcePtr source;
  SumLine line;
};

struct PartitionFacts {
  std::string name;
  std::uint64_t size = 0;         ///< bytes of the finished image
  std::uint64_t stored_size = 0;  ///< bytes it takes in the package
  std::size_t operations = 0;     ///< of a payload
  /// Of a payload: bytes of the image that operations of one kind write, by the kind's name.
  std::map<std::string, std::uint64_t> written_by{};
  std::string sha256{};      ///< lower-case hex; empty when the package gives none
  std::string from{};        ///< the file inside the package; empty: the package itself
  std::string inside{};      ///< the partition that it is a part of, e.g. "super"
  std::string held{};        ///< what the head says: "boot", "ext4", …; empty: not looked at
  std::string detail{};      ///< more of it: "header version 4"
  bool sparse = false;       ///< stored as a sparse image, or as pieces of one
  bool packed = false;       ///< stored compressed, beside what a zip does to its members
  bool incremental = false;  ///< stored as changes to the build before
  bool listed = false;       ///< a listing, or its container, says what it is for
  ContentPtr content{};
  std::shared_ptr<const PackageSum> sum{};
};

/// A group of logical partitions that share room.
struct Group {
  std::string name;
  std::uint64_t size = 0;  ///< bytes; 0: no bound
  std::vector<std::string> partitions;
};

struct Firmware {
  std::string kind;  ///< of the outermost shell: "ota-zip", "payload", "sparse", …
  std::vector<PartitionFacts> partitions;
  BuildFacts build;
  std::vector<Layer> layers;  ///< outermost first
  std::vector<Group> groups;
  std::vector<Finding> notes;  ///< what a person should know of the package
  /// Files of partitions for which another one was taken; a note says why. Named by their file they
  /// are chosen all the same.
  std::vector<PartitionFacts> aside;
  /// Names without slot of partitions whose two images are the same bytes: either may be meant.
  std::vector<std::string> same_slots;
  std::string slot;  ///< "a", "b": of two that differ the one that is meant; empty: not known
  FlashingSigns signs;
  bool incremental = false;
  bool single = false;  ///< one image, perhaps packed: no package of several

  /// By exact name; nullptr: not there. Of several the first.
  [[nodiscard]] const PartitionFacts* find(std::string_view name) const;
  /// As a person means it: the exact name, the file inside the package, or the name without its
  /// slot suffix. Errors: NotFound (naming those there are), Ambiguous (naming the choices).
  [[nodiscard]] Result<const PartitionFacts*> choose(std::string_view name,
                                                     const std::string& file) const;
  void note(FindingCode code, std::string message) {
    notes.push_back(usual_finding(code, std::move(message)));
  }
};
using FirmwarePtr = std::unique_ptr<Firmware>;

/// A partition's name as a file name: letters, digits, `_`, `-` and `.`, not first.
/// Errors: UnsafePath.
[[nodiscard]] Status check_partition_name(std::string_view name);

/// A whole partition in memory. Errors: as Content::read, LimitExceeded over `limit` bytes.
[[nodiscard]] Result<Blob> read_partition(const PartitionFacts& partition, std::uint64_t limit,
                                          const Context& context);

struct ReadPartition {
  OutputFile file;  ///< not yet committed
  Verified verified;
};
[[nodiscard]] Result<ReadPartition> read_partition(const PartitionFacts& partition,
                                                   const std::filesystem::path& target,
                                                   Overwrite overwrite, const ReadOptions& options,
                                                   const Context& context);

}  // namespace wexlo
