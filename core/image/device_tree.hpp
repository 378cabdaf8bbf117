#pragma once
/// Device trees as phones carry them: one flattened tree (FDT), several one after the other, or
/// behind a table with an index: docs/formats/device-tree.md. A place that holds them is edited by
/// replacing single blobs; everything else in it keeps its bytes.

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "image/layout.hpp"

namespace wexlo::dt {

/// The form of a place that holds device trees.
enum class Form {
  None,
  Chain,      ///< FDTs one after the other, perhaps with padding between
  Table,      ///< magic D7B7AB1E, versions 0 and 1; big-endian
  QcdtTable,  ///< magic QCDT, versions 1 to 3; little-endian
  DtbhTable,  ///< magic DTBH, version 2; little-endian
};
[[nodiscard]] std::string_view form_name(Form form);  ///< "dtb chain", "dt table", …
[[nodiscard]] Form form_of(View bytes);

/// Bytes of the FDT at the start of `at`, when its header is sane and it fits; nullopt otherwise.
[[nodiscard]] std::optional<std::uint64_t> fdt_size(View at);

struct Facts {
  std::string model;
  std::vector<std::string> compatible;
  std::string bootargs;  ///< /chosen
  bool overlay = false;  ///< it has fragments to be laid over another tree
};
/// Empty facts when the tree does not read (libfdt checks it whole).
[[nodiscard]] Facts facts_of(View fdt);

struct DtBlob {
  std::uint64_t offset = 0, size = 0;  ///< as stored, from the start of the place
  std::string compression = "none";    ///< "zlib", "gzip": tables of version 1
  Blob fdt;                            ///< decoded; empty when it does not decode
  std::vector<std::string> entries;    ///< of the table, that name it: "0: id 0x1 rev 0x2"
  Facts facts;
};

/// The distinct blobs of a place in the order they are stored (entries of a table may share one);
/// empty when the form is None or the table is not valid.
[[nodiscard]] std::vector<DtBlob> blobs(const Blob& place);

/// The bytes of the place with blobs (by their index in `blobs`) replaced; offsets, sizes and the
/// total follow. Alignment of what comes behind is kept: in a chain the FDT's own size is rounded
/// up for that. Errors: BadValue (no FDT), Unsupported (its compression).
[[nodiscard]] Result<Bytes> replace(const Blob& place, const std::map<std::size_t, Blob>& fresh);

/// Whole, of version 17, and valid to the last node: it can be edited.
[[nodiscard]] bool is_editable(View fdt);

/// What an edit of one tree came to.
struct TreeEdit {
  bool found = false;  ///< what it acts on is there
  bool changed = false;
  Blob fdt;  ///< the new tree, where it changed; the room behind the tree is as large as it was
};
/// @param value  nullopt: the property is removed. Errors: Corrupt.
[[nodiscard]] Result<TreeEdit> set_property(View fdt, const std::string& node,
                                            const std::string& property,
                                            const std::optional<Bytes>& value);
/// `found` is false where its parent is not there.
[[nodiscard]] Result<TreeEdit> add_node(View fdt, const std::string& node);
[[nodiscard]] Result<TreeEdit> remove_node(View fdt, const std::string& node);

/// Every node (`/a/b`, without a value) and property (`/a/b:name`); empty when it does not read.
[[nodiscard]] std::map<std::string, Bytes> flattened(View fdt);

/// A mount point declared in a device tree: a child of a node that is compatible with
/// `android,fstab`, wherever that is.
struct MountNode {
  std::string node, mount_point, flags;
};
[[nodiscard]] std::vector<MountNode> mount_nodes(View fdt);

/// A table as an image of its own (dtbo, dtb partitions). Sections: "entries", all but the header.
/// Errors: those of Image::parse; BadValue, OutOfRange (an entry or blob outside the table).
[[nodiscard]] bool looks_like_table(View start);
[[nodiscard]] Result<Image> parse_table(const Blob& bytes);

/// Header and entries of such an image together, which is what `blobs` and `replace` work on.
[[nodiscard]] Blob whole_table(const Image& image);

/// FDTs one after the other as an image: one section "dtb" up to the last one's end.
[[nodiscard]] bool looks_like_fdt(View start);
[[nodiscard]] Result<Image> parse_chain(const Blob& bytes);

}  // namespace wexlo::dt
