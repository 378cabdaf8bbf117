#pragma once
/// The kinds of edit, as data: docs/recipes.md. Where an edit acts is told by its home; what it
/// does to an image is in work.hpp.

#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <variant>
#include <vector>

#include "base/bytes.hpp"
#include "image/fragments.hpp"
#include "recipe/files.hpp"

namespace wexlo {

/// Owner and permission bits; what is not given stays, or is the usual one.
struct Access {
  std::optional<std::uint32_t> mode, uid, gid;  ///< mode: permission bits alone, up to 07777
};

/// How a file is packed that goes into a ramdisk: one stream; xz as kernels read it (LZMA2, check
/// CRC32).
enum class FilePack : std::uint8_t { None, Gzip, Xz };

/// As recipes spell it: "none", "gzip", "xz".
[[nodiscard]] std::string_view file_pack_word(FilePack pack);
/// nullopt: no such word.
[[nodiscard]] std::optional<FilePack> file_pack_of(std::string_view word);

/// Whether the stock file of a place is kept, and where.
struct KeepStock {
  bool kept = false;
  std::string path;  ///< place in the ramdisk; empty: under /wexlo/stock/
  FilePack pack = FilePack::None;
};

/// Puts a file into the ramdisk, in place of one of that path or as a new one.
struct PutEdit {
  std::string path;                 ///< place in the ramdisk
  std::optional<std::string> text;  ///< its content; nullopt: it is brought along
  FileRef from;
  FilePack pack = FilePack::None;
  Access access;  ///< default: the replaced file's, else 0644 0:0
  KeepStock keep_stock;
  bool any_processor = false;  ///< a program for another processor is no mistake
};
/// Makes a folder, or sets the access of one that is there.
struct FolderEdit {
  std::string path;
  Access access;  ///< of a new one: default 0755 0:0
};
/// Puts all files of a folder, or of one in an archive.
struct PutTreeEdit {
  std::string path;  ///< the folder that they go to; empty: the root
  FileRef from;
  Access access;  ///< of files; default mode: 0750 for programs and scripts, else 0644
  bool keep_stock = false, any_processor = false;
};
struct RemoveEdit {
  std::string path;  ///< a folder is removed with all that is in it
  bool keep_stock = false;
};
struct MoveEdit {
  std::string path, to;
};
struct LinkEdit {
  std::string path, target;
  bool keep_stock = false;
};
struct ChmodEdit {
  std::string path;
  Access access;
};

/// Which lines of a text file: all conditions that are given have to hold; blanks at a line's ends
/// do not count.
struct LineMatch {
  std::optional<std::string> line, containing, starting;
  [[nodiscard]] bool matches(std::string_view text) const;
  [[nodiscard]] std::string text() const;  ///< for people
};
struct LineAddEdit {
  std::string file;
  std::vector<std::string> lines;
  std::string at;    ///< "end", "start", "before", "after"
  LineMatch anchor;  ///< for the last two: the first line that matches
};
struct LineReplaceEdit {
  std::string file;
  LineMatch match;
  std::vector<std::string> lines;
  std::optional<std::uint32_t> count;  ///< so many lines have to match; default: at least one
};
struct LineRemoveEdit {
  std::string file;
  LineMatch match;
  std::optional<std::uint32_t> count;
};

using Pairs = std::vector<std::pair<std::string, std::string>>;

/// Sets and removes properties in a property file of the ramdisk.
struct PropertyEdit {
  std::string file;  ///< empty: the property file that this layout's init reads
  Pairs set;
  std::vector<std::string> remove;
};
/// Drops manager flags wherever mount points are declared: fstab files and device trees.
struct FstabDropEdit {
  std::string mount_point;  ///< "*": every entry
  std::vector<std::string> flags;
};
/// Sets manager flags; one with `=` replaces the flag of that name.
struct FstabSetEdit {
  std::string mount_point;
  std::vector<std::string> flags;
};
/// Declares a mount point wherever others are declared.
struct FstabAddEdit {
  std::string mount_point, device, type;
  std::string options;  ///< of the mount, parted by commas
  std::vector<std::string> flags;
  [[nodiscard]] std::string line() const;  ///< as fstab files have it
};
/// Words of the kernel's command line.
struct CmdlineEdit {
  Pairs set;                     ///< `name=value`
  std::vector<std::string> add;  ///< words as they are
  std::vector<std::string> remove;
};
struct BootconfigEdit {
  Pairs set;
  std::vector<std::string> remove;
};
/// Header fields, as parts.toml spells them.
struct HeaderEdit {
  Pairs set;
};
/// Bytes of the kernel as it runs, unpacked.
struct KernelBytesEdit {
  Bytes find, replace;                     ///< of the same length
  std::optional<std::uint32_t> count = 1;  ///< nullopt: as often as it stands there, once at least
  std::string shown;                       ///< for people
};
/// A program that is run on the kernel as it runs, unpacked: file in, file out.
struct KernelProgramEdit {
  FileRef from;
  std::vector<std::string> arguments;  ///< `${in}` and `${out}` stand for the two files
  std::uint32_t seconds = 60;          ///< that it may take
};
struct TreePropertyEdit {
  std::string node, property;
  std::string tree;            ///< only trees whose model or compatible holds it; empty: all
  std::optional<Bytes> value;  ///< nullopt: removed
  std::string shown;
};
struct TreeNodeEdit {
  std::string node;
  std::string tree;
  bool remove = false;
};
/// Writes down which files of the ramdisk are not as they were: `added /x`, `changed /x`,
/// `removed /x`, `kept /x /place`, a line each. It counts what all recipes did.
struct ChangeListEdit {
  std::string path;
  Access access;
};
/// A whole part from a file, or out of another image.
struct PartEdit {
  std::string part;  ///< section's name, or "ramdisk"
  FileRef from;
  std::string take;            ///< the part of the other image; default: same
  bool other_version = false;  ///< a version that does not fit is no mistake
  bool as_it_is = false;       ///< a plain kernel is not packed as the stock one was
};
/// A ramdisk of vendor_boot: added, or taken out.
struct FragmentEdit {
  boot::FragmentKey key;
  bool remove = false;
  FileRef from;  ///< a ramdisk as it is, or a folder that one is made of
};
/// Sets and clears flags of the top-level vbmeta struct.
struct VbmetaFlagsEdit {
  std::uint32_t set = 0, clear = 0;
};

/// Where an edit acts: what `prepare` looks for in a firmware.
enum class Home {
  StartRamdisk,     ///< the ramdisk that a normal start runs first
  RecoveryRamdisk,  ///< recovery's, wherever it lives
  VendorRamdisk,    ///< vendor_boot's
  Mounts,           ///< every fstab, in ramdisks and device trees
  Cmdline,
  Bootconfig,
  Header,  ///< of the image that starts the system
  Kernel,
  Trees,  ///< device trees
  Vbmeta,
};
[[nodiscard]] std::string_view home_name(Home home);
/// The images that may hold it, for people.
[[nodiscard]] std::string_view home_images(Home home);

/// Facts of an image that an edit can be made to depend on; an empty list asks nothing.
struct Conditions {
  std::vector<std::string> architectures, layouts, partitions;
  std::vector<std::uint32_t> header_versions;
  std::optional<std::uint32_t> sdk_at_least, sdk_at_most;  ///< API level of the build
  std::vector<std::string> generations;                    ///< of generic kernels
  std::vector<std::string> kernels;                        ///< releases: see kernel::is_release
  std::string reason;                                      ///< a clause for people; may be empty
  std::size_t layouts_line = 0, layouts_column = 0;        ///< where they stand in the recipe
  [[nodiscard]] bool empty() const;
};

/// What a recipe wants of the phone besides its images: held against a sheet, see kit/fit.hpp.
struct PhoneNeeds {
  std::vector<std::string> builds;     ///< build number or fingerprint; `*` at the end: begins with
  std::vector<std::string> basebands;  ///< endings of the baseband's version
  std::vector<std::string> chipsets;
  [[nodiscard]] bool empty() const {
    return builds.empty() && basebands.empty() && chipsets.empty();
  }
};

struct Edit {
  std::string kind;                ///< as the recipe spells it
  std::string recipe;              ///< the recipe's name
  std::vector<std::string> shows;  ///< Recipe::shows
  std::string partition;           ///< where it acts; empty: where its home is
  std::string fragment;            ///< of vendor_boot, by name or type; empty: any
  Home home = Home::StartRamdisk;
  bool may_miss = false;  ///< matching nothing is no error
  bool creates = false;   ///< an image without a ramdisk gets one for it
  std::size_t line = 0;   ///< in the recipe
  Conditions when;
  /// Values that its texts ask for and that are not known yet: they stand there as `${name}`.
  std::set<std::string> open{};
  std::string settings;  ///< its keys and values in one form: what the digest is over
  std::variant<PutEdit, FolderEdit, PutTreeEdit, RemoveEdit, MoveEdit, LinkEdit, ChmodEdit,
               LineAddEdit, LineReplaceEdit, LineRemoveEdit, PropertyEdit, FstabDropEdit,
               FstabSetEdit, FstabAddEdit, ChangeListEdit, CmdlineEdit, BootconfigEdit, HeaderEdit,
               KernelBytesEdit, KernelProgramEdit, TreePropertyEdit, TreeNodeEdit, PartEdit,
               FragmentEdit, VbmetaFlagsEdit>
      what;

  [[nodiscard]] std::string summary() const;  ///< one line for people
  /// SHA-256 over everything that decides what the edit does, hex: how a journal knows it again.
  /// Precondition: its files are bound, and no value is open.
  [[nodiscard]] std::string digest() const;
  /// The place in the ramdisk that it is about; empty: its kind has none.
  [[nodiscard]] std::string place() const;
  /// Whether it puts something in the place of what a start runs first.
  [[nodiscard]] bool replaces_init() const;
  /// The file that it brings along; nullptr: none.
  [[nodiscard]] const FileRef* file() const;
  [[nodiscard]] FileRef* file();
};

}  // namespace wexlo
