#pragma once
/// Images into a package: what is replaced, what had to be renewed, and a package that
/// reads.

#include <filesystem>

#include "base/output.hpp"
#include "firmware/insert.hpp"
#include "kit/facts/given.hpp"

namespace wexlo {

/// Marks a folder that Wexlo made by putting images into another.
inline constexpr std::string_view kInsertManifest = "insert.json";

struct InsertJob {
  std::vector<GivenFile> images;
  std::vector<std::string> accept;  ///< codes of problems that a person has said yes to
  Overwrite overwrite = Overwrite::Refuse;
};

struct InsertedImage {
  std::string partition, file;  ///< file: in the package, as PartitionFacts::from
  std::uint64_t old_size = 0, new_size = 0;
  std::string old_kind, new_kind;
  std::string sha256;  ///< empty: not counted, of images over 128 MiB
};

struct Inserted {
  std::vector<InsertedImage> images;
  InsertReport report;
  std::vector<Finding> findings;
  bool stopped = false;  ///< a problem that nobody accepted: nothing was written
  std::uint64_t size = 0;
  std::string sha256;  ///< of the package's file; empty for folders, and over 128 MiB
};

/// The output is read again before it appears: each image has to come out of it as it was given,
/// and every digest and sum that the package names has to match. Errors: Usage (the output is the
/// package itself), NotFound, Unsupported, DoesNotFit, Unexplained (what was written does not read
/// as it should), Exists, those of reading and writing.
[[nodiscard]] Result<Inserted> insert(const std::string& firmware, const InsertJob& job,
                                      const std::filesystem::path& out, const Context& context);

}  // namespace wexlo
