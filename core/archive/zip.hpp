#pragma once
/// Reading zip members in place, over libzip. A stored member is a window into the zip, never a
/// temporary copy.

#include <memory>
#include <string>
#include <vector>

#include "archive/bundle.hpp"
#include "codec/codec.hpp"

namespace wexlo {

struct ZipMember {
  std::string name;               ///< as stored; may hold any bytes
  std::uint64_t size = 0;         ///< bytes when unpacked
  std::uint64_t stored_size = 0;  ///< bytes in the zip
  bool stored = false;            ///< not compressed
  Compression method = Compression::None;
  int method_id = 0;  ///< as the zip has it, also where `method` has no word for it
  std::uint32_t crc = 0;
  bool encrypted = false;
};

/// A fact: a zip may begin with something else, but firmware zips begin with a local header.
[[nodiscard]] bool looks_like_zip(View start);

/// Where a zip begins that has something else in front of it (a program that unpacks itself, a
/// page), by the directory at the file's end: 0 where its offsets count what is in front. nullopt:
/// no zip ends there. Errors: Io.
[[nodiscard]] Result<std::optional<std::uint64_t>> zip_start(const Source& source);

class ZipArchive {
 public:
  /// Reads the directory. Errors: BadMagic, Truncated, Corrupt, LimitExceeded.
  [[nodiscard]] static Result<std::shared_ptr<const ZipArchive>> open(SourcePtr source);
  ZipArchive(const ZipArchive&) = delete;
  ZipArchive& operator=(const ZipArchive&) = delete;
  ~ZipArchive();

  [[nodiscard]] const std::vector<ZipMember>& members() const { return members_; }
  /// nullptr when there is none of that exact name.
  [[nodiscard]] const ZipMember* find(std::string_view name) const;
  /// A stored member's bytes as they lie in the zip.
  /// Errors: Unsupported (compressed or encrypted), Truncated, Corrupt.
  [[nodiscard]] Result<SourcePtr> window(const ZipMember& member) const;
  /// A member's content, whatever its method: a stored one as window(), else see
  /// codec/unpacked.hpp. The CRC is checked by a read from first to last. Errors: Unsupported
  /// (encrypted, or packed by a method that is not known), those of window() and open_unpacked().
  [[nodiscard]] Result<SourcePtr> open_member(const ZipMember& member,
                                              const Context& context) const;
  /// A whole member, unpacked; its CRC is checked. Errors: LimitExceeded (over `limit` bytes),
  /// Unsupported (encrypted), Corrupt.
  [[nodiscard]] Result<Bytes> read(const ZipMember& member, std::uint64_t limit) const;

 private:
  struct State;
  [[nodiscard]] Result<SourcePtr> raw_window(const ZipMember& member) const;
  ZipArchive();
  std::unique_ptr<State> state_;
  std::vector<ZipMember> members_;
};

/// Its files, for who does not care that it is a zip; keeps the archive open.
[[nodiscard]] Bundle bundle_of(const std::shared_ptr<const ZipArchive>& zip,
                               const std::string& name);

}  // namespace wexlo
