#pragma once
/// Images that are a header of fixed fields followed by sections whose sizes the header names. A
/// format is a table (fields, sections); reading, writing, editing and listing follow from it, so a
/// fact stands in one place. Bytes that no table row covers are carried.

#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "base/bytes.hpp"

namespace wexlo {

enum class FieldType { U32, U64, Text, Raw };

struct Field {
  std::string_view name;  ///< the standard's own
  std::uint32_t offset;   ///< bytes from the start of the image
  std::uint32_t size;     ///< bytes
  FieldType type;
};

struct SectionRule {
  std::string_view name;
  std::string_view size_field;  ///< the header field that gives its size in bytes
  std::uint32_t bias = 0;       ///< bytes that the field counts besides the section's own
  /// Header field that gives its size in memory, which is never below the one in the file; empty:
  /// there is none.
  std::string_view memory_field{};
};

struct Layout {
  std::string_view kind;  ///< "boot", "vendor_boot", "vbmeta"
  unsigned version;       ///< header version
  std::endian order;
  std::uint32_t header_size;  ///< bytes the fields take; the header section is this, page-aligned
  std::uint32_t page;         ///< sections start at multiples of this; 0: field `page_size` says
  std::span<const Field> fields;
  std::span<const SectionRule> sections;  ///< in the order they are stored
  /// The header says where sections lie, not only how long they are: what stands between them stays
  /// in its place, and a section grows into the zeros behind it at most.
  bool placed = false;

  [[nodiscard]] const Field* field(std::string_view name) const;  ///< nullptr: not in this version
};

/// Where a section of a placed layout lies.
struct SectionPlace {
  std::string name;
  std::uint64_t offset = 0, size = 0;  ///< bytes
};

struct Section {
  std::string name;
  std::uint64_t offset = 0;  ///< bytes from the start of the image, as it was read
  Blob bytes;
  Blob padding;  ///< up to the next page, or section; may be shorter at the end of a file
};

/// An image taken apart. Value type; copies share the sections' bytes.
class Image {
 public:
  Image() = default;
  /// Errors (offsets from the start of `bytes`): Truncated (a section outside the file, named),
  /// BadValue (page size not a power of two in 2048..131072).
  [[nodiscard]] static Result<Image> parse(const Layout& layout, const Blob& bytes);
  /// An image whose header names places. @param places  in the order of the file, without overlaps,
  /// inside `bytes`; what follows each up to the next is its padding, whatever it holds.
  [[nodiscard]] static Image parse_placed(const Layout& layout, const Blob& bytes,
                                          const std::vector<SectionPlace>& places);
  /// An image without a header: one section of `size` bytes, then the tail. Precondition: `size` is
  /// at most the bytes' size.
  [[nodiscard]] static Image parse_whole(const Layout& layout, std::string section,
                                         const Blob& bytes, std::uint64_t size);
  /// The image's bytes: prefix, header, sections with their padding, tail.
  [[nodiscard]] Bytes write() const;
  [[nodiscard]] std::uint64_t size() const;  ///< bytes that write() gives

  [[nodiscard]] const Layout& layout() const { return *layout_; }
  [[nodiscard]] std::string_view kind() const { return layout_->kind; }
  [[nodiscard]] std::uint64_t page() const { return page_; }
  [[nodiscard]] View header() const { return header_; }  ///< with its padding

  /// Bytes that stand before the image in its file (image/prefix.hpp). Offsets count from the
  /// file's start, and so from the prefix's.
  [[nodiscard]] const Blob& prefix() const { return prefix_; }
  void set_prefix(Blob prefix);

  /// A number field; 0 when this version has none of that name.
  [[nodiscard]] std::uint64_t number(std::string_view field) const;
  [[nodiscard]] View raw(std::string_view field) const;  ///< empty when there is none
  /// Errors: Unsupported (no such field), OutOfRange (value does not fit).
  [[nodiscard]] Status set_number(std::string_view field, std::uint64_t value);
  /// Errors: Unsupported (no such field), OutOfRange (longer than the field); zero filled.
  /// Setting what is set already changes nothing.
  [[nodiscard]] Status set_raw(std::string_view field, View value);

  [[nodiscard]] const std::vector<Section>& sections() const { return sections_; }
  [[nodiscard]] const Section* section(std::string_view name) const;  ///< nullptr when absent
  /// Puts other bytes in a section's place (an empty one may be filled), with zero padding, and
  /// makes the size field true. Errors: Unsupported (no such section), OutOfRange, DoesNotFit (a
  /// placed layout has no room).
  [[nodiscard]] Status replace(std::string_view name, Blob bytes);

  [[nodiscard]] const Blob& tail() const { return tail_; }  ///< bytes after the last section
  void set_tail(Blob tail) { tail_ = std::move(tail); }
  [[nodiscard]] std::uint64_t sections_end() const;  ///< bytes before the tail, as it stands now

 private:
  const Layout* layout_ = nullptr;
  std::uint64_t page_ = 1;
  Blob prefix_;
  Bytes header_;
  std::vector<Section> sections_;
  Blob tail_;
};

}  // namespace wexlo
