#pragma once
/// What a file or folder is, layer by layer, as plain data.

#include <filesystem>
#include <optional>

#include "firmware/formats.hpp"
#include "judge/origin.hpp"
#include "judge/starts.hpp"
#include "ramdisk/permissive.hpp"
#include "verified/chain.hpp"
#include "verified/older_signature.hpp"
#include "verified/struct_info.hpp"

namespace wexlo {

struct PartInfo {
  std::string name;
  std::uint64_t offset = 0, size = 0;  ///< bytes
  std::string compression;             ///< "none" where nothing is compressed
  std::string sha256;
  std::string detail;  ///< e.g. "24 entries, 3.1 MiB decoded"
};

/// One ramdisk of the image; vendor_boot may have several.
struct RamdiskInfo {
  std::string title, name, type;  ///< name and type: of a fragment; else empty
  std::string board_id;           ///< hex words; empty: any board
  std::uint64_t offset = 0, size = 0, decoded_size = 0;
  std::size_t entries = 0;
  std::string compression, header;            ///< header: the chipset part header's name
  std::vector<std::string> encoders, proofs;  ///< one a stream; only when asked for
  std::string trouble;                        ///< why it does not read
};

struct TreeInfo {
  std::string part;                    ///< "kernel", "dtb", "entries", …
  std::uint64_t offset = 0, size = 0;  ///< bytes; offset in the file
  std::string model, compression;
  std::vector<std::string> compatible, entries;
  bool overlay = false;
};

struct TailInfo {
  std::string kind;
  std::uint64_t offset = 0, size = 0;  ///< offset in the file
};

struct ImageInfo {
  std::string partition_kind;  ///< "init_boot", "boot", "vendor_boot", "dt-table", "dtb", "vbmeta"
  std::uint64_t header_version = 0, page_size = 0;
  std::string os_version, patch_level, cmdline, name, bootconfig;
  std::string layout;  ///< how its ramdisk is used: layout_name; empty: of no boot-class image
  std::vector<PartInfo> parts;
  std::vector<RamdiskInfo> ramdisks;
  std::optional<kernel::Kernel> kernel;
  std::vector<TreeInfo> trees;
  Starts starts;
  Origin origin;
  std::vector<PermissiveWord> permissive;
  std::vector<std::string> journal;  ///< the edits it says it had
  std::optional<bool> id_matches;
  std::optional<VbmetaInfo> vbmeta;
  std::optional<FooterInfo> footer;
  std::optional<FooterInfo> boot_signature;  ///< the struct in the section of that name
  std::optional<verified::OlderSignatureInfo> older_signature;  ///< behind the sections
  std::string prefix_kind;                                      ///< empty: nothing before the image
  std::uint64_t prefix_size = 0;
  std::optional<bool> prefix_true;
  std::vector<TailInfo> tail;
  std::uint64_t tail_size = 0;
};

struct Inspection {
  std::string path, kind;
  std::uint64_t size = 0;
  std::vector<Layer> layers;
  std::vector<PartitionFacts> partitions;
  BuildFacts build;
  bool incremental = false;
  std::vector<Group> groups;
  std::vector<Finding> notes;
  std::optional<ImageInfo> image;
  std::optional<FooterInfo> footer;  ///< of one image that is carried whole, e.g. a file system
  Starts starts;                     ///< of a folder: its images together
  /// What covers what: of a folder's images with their digests, of other containers the structs
  /// alone. nullopt: there is no top-level struct.
  std::optional<verified::Walk> chain;
};

enum class Depth {
  Usual,
  Encoders,  ///< besides, which encoder's settings made the ramdisks: takes longer
};

/// Errors: those of identify, the container and the image; a ramdisk that does not read is no
/// error here, its part says so.
/// @param where  a file, a folder or an address
[[nodiscard]] Result<Inspection> inspect(const std::string& where, const Context& context = {},
                                         Depth depth = Depth::Usual, const Opening& options = {});

/// All of one image. @param path  its own; may be empty
[[nodiscard]] Result<ImageInfo> image_info(const LoadedImage& loaded, const ImageReading& reading,
                                           const std::filesystem::path& path,
                                           const Context& context, Depth depth);

}  // namespace wexlo
