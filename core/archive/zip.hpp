#pragma once
/// Reading zip members in place, over libzip. A stored member is a window into the zip, never a
/// temporary copy.

#include <memory>
#include <string>
#include <vector>

#include "base/source.hpp"

namespace wexlo {

struct ZipMember {
  std::string name;               ///< as stored; may hold any bytes
  std::uint64_t size = 0;         ///< bytes when unpacked
  std::uint64_t stored_size = 0;  ///< bytes in the zip
  bool stored = false;            ///< not compressed
  bool encrypted = false;
};

/// A fact: a zip may begin with something else, but firmware zips begin with a local header.
[[nodiscard]] bool looks_like_zip(View start);

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
  /// A whole member, unpacked; its CRC is checked. Errors: LimitExceeded (over `limit` bytes),
  /// Unsupported (encrypted), Corrupt.
  [[nodiscard]] Result<Bytes> read(const ZipMember& member, std::uint64_t limit) const;

 private:
  struct State;
  ZipArchive();
  std::unique_ptr<State> state_;
  std::vector<ZipMember> members_;
};

}  // namespace wexlo
