#pragma once
/// super: one block device cut into logical partitions. Facts in docs/formats/super.md.

#include "firmware/opening.hpp"

namespace wexlo {

[[nodiscard]] bool looks_like_super(View start);        ///< a whole image: geometry at 4096 or 8192
[[nodiscard]] bool looks_like_empty_super(View start);  ///< geometry at 0: tables without data

/// Further block devices that super may spread over, by partition name.
using DeviceFinder = std::function<Result<SourcePtr>(const std::string& name)>;

/// The logical partitions. Where a primary copy of geometry or tables is bad the backup is used,
/// and a note says so. Errors: Corrupt (no copy is good, with what is wrong with the first),
/// OutOfRange, BadValue; of reading a partition: OutOfRange (outside the image), NotFound (another
/// block device).
[[nodiscard]] Result<FirmwarePtr> open_super(const SourcePtr& source, const Opening& opening);
[[nodiscard]] Result<FirmwarePtr> open_super_with(const SourcePtr& source,
                                                  const DeviceFinder& devices);
/// The logical partitions of a super that stands among others: each knows what it is inside of.
/// nullptr: it does not read, and a note in `beside` says so.
[[nodiscard]] FirmwarePtr open_logical(const std::string& name, const SourcePtr& source,
                                       const DeviceFinder& devices, Firmware& beside);
/// What is not valid in a super image, though some copy of its tables may do: sentences. A copy
/// that is all zeros was never written, and is no trouble as long as another one is there.
[[nodiscard]] std::vector<std::string> super_troubles(const Source& source);

[[nodiscard]] Result<FirmwarePtr> open_empty_super(const SourcePtr& source, const Opening& opening);

}  // namespace wexlo
