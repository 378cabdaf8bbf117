#pragma once
/// The cpio "newc" archive (magic 070701, 070702 with sums): docs/formats/newc.md. Every field, the
/// order, the letter case of the hex digits and all padding are kept: write(parse(x)) == x.

#include <array>
#include <string>
#include <vector>

#include "base/bytes.hpp"

namespace wexlo::newc {

/// The 13 numbers of an entry's header, in their order in the file; 8 hex digits each from byte 6.
enum class Field {
  Ino,
  Mode,
  Uid,
  Gid,
  Nlink,
  Mtime,
  FileSize,
  DevMajor,
  DevMinor,
  RdevMajor,
  RdevMinor,
  NameSize,
  Check
};

inline constexpr std::size_t kHeaderSize = 110;
inline constexpr std::string_view kTrailer = "TRAILER!!!";
/// A kernel refuses longer names (PATH_MAX).
inline constexpr std::size_t kMaxName = 4096;
/// A phone's ramdisk has some hundred entries; each takes several times its bytes in memory.
inline constexpr std::size_t kMaxEntries = 250'000;

/// File types in `mode`, POSIX values.
enum Type : std::uint32_t {
  TypeMask = 0170000,
  Socket = 0140000,
  Symlink = 0120000,
  Regular = 0100000,
  Block = 0060000,
  Directory = 0040000,
  Character = 0020000,
  Fifo = 0010000
};

class Entry {
 public:
  /// A new entry: fields 0 but for mode, nlink 1 (2 for a folder), sizes; hex digits in lower case
  /// unless `upper_case`.
  [[nodiscard]] static Entry make(std::string name, std::uint32_t mode, Blob data,
                                  bool upper_case = false);

  [[nodiscard]] std::uint32_t get(Field field) const;
  void set(Field field, std::uint32_t value);
  [[nodiscard]] std::uint32_t mode() const { return get(Field::Mode); }
  [[nodiscard]] std::uint32_t type() const { return mode() & TypeMask; }
  [[nodiscard]] const std::string& name() const { return name_; }  ///< up to its NUL, as spelled
  void rename(std::string name);
  [[nodiscard]] const Blob& data() const { return data_; }  ///< a symlink's target, a file's bytes
  void set_data(Blob data);
  [[nodiscard]] bool is_trailer() const { return name_ == kTrailer; }
  [[nodiscard]] bool upper_case() const { return upper_; }

 private:
  friend Result<struct Archive> parse(const Blob& bytes, std::string_view file);
  friend void write(Bytes& out, const struct Archive& archive);
  friend Bytes write(const struct Archive& archive);
  friend bool same(const struct Archive& a, const struct Archive& b);
  friend void give_sums(struct Archive& archive);
  void renew_sum();
  /// The header as text is the truth, so that what is not understood stays as it was.
  std::array<char, kHeaderSize> header_{};
  std::string name_;
  Bytes name_tail_;  ///< the name's NUL and its padding, and whatever stands behind the NUL
  Blob data_;
  bool made_ = false;   ///< by make(): it was not in the archive that was read
  bool upper_ = false;  ///< case of the digits A to F; the archive's, where it has none itself
  Blob data_tail_;      ///< padding to 4; behind a trailer all zeros up to the next archive
};

/// One or more archives, one behind the other: trailer entries stay in the list as separators.
struct Archive {
  std::vector<Entry> entries;
  Blob tail;  ///< what follows the last archive and is none
};

[[nodiscard]] bool looks_like_newc(View start);

/// Where the archive's entries carry sums (070702), those that were made for it get them, too:
/// readers that check sums pass over a file without one.
void give_sums(Archive& archive);

/// Reads to the end of `bytes`. A missing trailer is accepted, as kernels do.
/// Errors (offset from the start of `bytes`): BadMagic (no archive at all, or garbage between
/// entries), BadValue (a field that is not hex, an empty or overlong name), Truncated.
[[nodiscard]] Result<Archive> parse(const Blob& bytes, std::string_view file = {});
[[nodiscard]] Bytes write(const Archive& archive);
/// The same, behind what is there already.
void write(Bytes& out, const Archive& archive);
/// Whether both would be written as the same bytes.
[[nodiscard]] bool same(const Archive& a, const Archive& b);

/// The place in the tree that a kernel gives a name: no leading `/` or `./`, no `.` or empty
/// component. Components `..` stay. The root is "".
[[nodiscard]] std::string place_of(std::string_view name);

}  // namespace wexlo::newc
