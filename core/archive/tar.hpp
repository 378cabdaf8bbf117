#pragma once
/// tar over libarchive: the members' places are read from it, their bytes from the source itself.
/// A sum line behind the archive (`<32 hex digits>  <name>` and a line end) covers all before it.

#include <optional>

#include "archive/bundle.hpp"

namespace wexlo {

/// Sizes and places in a header, in bytes: every member begins at a multiple of a block.
inline constexpr std::size_t kTarBlock = 512, kTarSumAt = 148, kTarSumSize = 8;

/// A member's header at the start: ustar, GNU, or the old form without a magic whose sum is right.
[[nodiscard]] bool looks_like_tar(View start);

struct Tar {
  Bundle bundle;
  std::size_t members = 0;  ///< folders and links, too
};
/// Regular files only: others are passed over. Errors: Corrupt, Truncated, UnsafePath,
/// LimitExceeded (over 100,000 members), Interrupted.
[[nodiscard]] Result<Tar> open_tar(const SourcePtr& source, const Context& context);

/// Bytes of a member that are stored; what lies between them are holes.
struct TarStretch {
  std::uint64_t at = 0, size = 0;
};

/// Where a member lies in its tar.
struct TarPlace {
  std::string path;             ///< as open_tar spells it
  std::uint64_t header_at = 0;  ///< of the first of its headers
  std::uint64_t data_at = 0, size = 0;
  /// One behind the other from data_at; empty: all of the member is stored.
  std::vector<TarStretch> stretches{};
};
/// Regular files. Errors: as open_tar.
[[nodiscard]] Result<std::vector<TarPlace>> tar_places(const SourcePtr& source,
                                                       const Context& context);

struct SumLine {
  std::uint64_t covers = 0;  ///< bytes from the start of the file
  std::string md5;           ///< lower-case hex
  std::string name;          ///< the file that the line speaks of
};
/// The last line of the file, if it is one. Only the file's end is read. Errors: Io.
[[nodiscard]] Result<std::optional<SumLine>> find_sum_line(const Source& source);
/// Reads all that the line covers. Errors: DigestMismatch, Interrupted, Io.
[[nodiscard]] Status check_sum_line(const Source& source, const SumLine& line,
                                    const Context& context);

}  // namespace wexlo
