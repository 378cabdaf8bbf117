#pragma once
/// A ramdisk section: one or more streams, each a cpio archive, compressed or not, with padding
/// between. What was not edited keeps its encoded bytes.

#include <optional>
#include <string>
#include <vector>

#include "archive/newc.hpp"
#include "codec/settings.hpp"

namespace wexlo {

struct RamdiskSegment {
  Blob gap;  ///< zero bytes before the stream
  Compression compression = Compression::None;
  Framing framing;
  Blob encoded;  ///< the stream as it stood
  Blob decoded;  ///< what it decodes to
  newc::Archive archive;
  bool touched = false;        ///< the archive no longer is what `encoded` holds
  bool setting_known = false;  ///< `framing` has the level to use; else it is searched for
};

struct Ramdisk {
  std::vector<RamdiskSegment> segments;  ///< at least one
  Blob tail;                             ///< what follows the last stream and is none

  [[nodiscard]] Compression compression() const { return segments.front().compression; }
};

/// Errors (offsets from the start of `bytes`; inside a compressed stream the message says so):
/// BadMagic (neither an archive nor a known compression), Unsupported (a known one that is not
/// supported), and those of decode() and newc::parse().
[[nodiscard]] Result<Ramdisk> parse_ramdisk(const Blob& bytes, const DecodeLimit& limit = {});

/// The stock ramdisk again, whatever was edited since: its archives are read afresh from what the
/// streams decode to, which is not decoded a second time.
[[nodiscard]] Result<Ramdisk> reread_stock(const Ramdisk& edited);

/// Untouched segments give their stock bytes; touched ones are compressed in their own format, with
/// the setting that gives the stock bytes for the stock content where one does.
[[nodiscard]] Result<Bytes> encode_ramdisk(const Ramdisk& ramdisk, const Context& context = {});

/// The encoder's setting that made a segment's stock bytes; searched for.
[[nodiscard]] Setting stock_setting(const RamdiskSegment& segment, const Context& context,
                                    Effort effort = Effort::Quick);

/// Where an entry is.
struct EntryAt {
  std::size_t segment = 0, index = 0;
};
/// The entry that a kernel would leave at `place` (see newc::place_of): the last one of that name.
[[nodiscard]] std::optional<EntryAt> find_entry(const Ramdisk& ramdisk, std::string_view place);
[[nodiscard]] const newc::Entry& entry_at(const Ramdisk& ramdisk, EntryAt at);
/// For editing: marks the segment as touched.
[[nodiscard]] newc::Entry& edit_entry(Ramdisk& ramdisk, EntryAt at);

/// Adds an entry behind all others, in front of the last archive's trailer, and the folders on the
/// way to it that are missing (mode 0755, owner root). Link number and letter case follow the
/// archive's own pattern; the time is the one most entries have, so that a patch stands out neither
/// to a reader nor to a digest of times. Returns the places it had to make, parents first.
/// Errors: BadValue (a parent is no folder).
[[nodiscard]] Result<std::vector<std::string>> add_entry(Ramdisk& ramdisk, newc::Entry entry);

/// Removes what is at a place, doubled names too, and all that is below it. Hard links elsewhere
/// keep their data. Returns the places that are gone, in the archives' order.
std::vector<std::string> erase_entries(Ramdisk& ramdisk, const std::string& place);

/// Takes an entry out of its hard-link group, so that it can be changed alone: its data, when it
/// carried the group's, moves to the next member.
void detach_links(Ramdisk& ramdisk, EntryAt at);

/// The bytes a kernel leaves at an entry: for hard links the group's data, wherever it is stored.
[[nodiscard]] Blob content_of(const Ramdisk& ramdisk, EntryAt at);

/// For each entry of an archive, the entry whose data a kernel leaves there: itself, but for a hard
/// link without data of its own. One pass, for those who look at every entry.
[[nodiscard]] std::vector<std::size_t> content_carriers(const newc::Archive& archive);

/// Errors: UnsafePath, when a name climbs out (`..`) or goes through a symlink of this ramdisk.
[[nodiscard]] Status check_places(const Ramdisk& ramdisk);

}  // namespace wexlo
