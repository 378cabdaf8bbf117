#pragma once
/// Outputs that are complete and under their final name, or absent. Bytes go to a temporary beside
/// the target; `commit` flushes it to the disk and renames it; without a commit it is removed. What
/// a killed run left is removed by the next one for the same target.

#include <filesystem>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "base/made_folders.hpp"
#include "base/output_names.hpp"

namespace wexlo {

enum class Overwrite { Refuse, Replace };
/// Who may read a file: anybody whom the user's mask lets, or its owner alone.
enum class Readers { Usual, OwnerAlone };
/// Whether to wait until the bytes are on the disk: what is not survives a killed program, but not
/// a power cut within seconds.
enum class Flush { Wait, Leave };
/// Bytes in all that a command waits for: a larger whole is left to the system to write out.
inline constexpr std::uint64_t kMostWaitedFor = 256u << 20;

/// Exists unless `overwrite` allows to replace what is there. Lets a command refuse before it
/// works.
[[nodiscard]] Status check_absent(const std::filesystem::path& target, Overwrite overwrite);

/// Usage, when writing `target` would touch what the call reads: it is one of the inputs, by
/// whatever links or `..`; it lies in a folder that is an input, and is there already; or an input
/// lies in it, so that replacing it would remove that. Inputs that are no paths are passed over.
[[nodiscard]] Status check_not_input(const std::filesystem::path& target,
                                     const std::vector<std::string>& inputs);

class OutputFile {
 public:
  /// Makes missing folders above it. Errors: Exists, Permission, Io.
  [[nodiscard]] static Result<OutputFile> create(const std::filesystem::path& target,
                                                 Overwrite overwrite,
                                                 Readers readers = Readers::Usual);
  OutputFile(OutputFile&& other) noexcept;
  OutputFile& operator=(OutputFile&&) = delete;
  ~OutputFile();

  /// Sets the size; what is never written reads as zeros (a hole where the file system has them).
  [[nodiscard]] Status resize(std::uint64_t size);
  /// Safe to call from several threads for ranges that do not overlap.
  [[nodiscard]] Status write_at(std::uint64_t offset, View bytes) const;
  /// Reads back what was written, e.g. to verify a digest.
  [[nodiscard]] Status read_at(std::uint64_t offset, MutableView out) const;
  [[nodiscard]] Status commit(Flush flush = Flush::Wait);
  [[nodiscard]] const std::filesystem::path& target() const { return target_; }

 private:
  OutputFile(MadeFolders folders, std::filesystem::path target, std::filesystem::path temporary,
             int fd, Overwrite overwrite);
  MadeFolders folders_;  ///< go last, when the temporary is gone
  std::filesystem::path target_, temporary_;
  int fd_;
  Overwrite overwrite_;
};

/// Writes a whole file at once, atomically.
[[nodiscard]] Status write_file(const std::filesystem::path& target, View bytes,
                                Overwrite overwrite, Flush flush = Flush::Wait,
                                Readers readers = Readers::Usual);

/// Writes a new file in a folder that is not yet under its final name: OutputFolder::commit flushes
/// all of them at once. Errors: Exists, and those of writing.
[[nodiscard]] Status write_new(const std::filesystem::path& file, View bytes);

/// A folder that appears under its final name when all of it is there. An existing folder is
/// replaced only when it holds `marker` (a file that says the folder is Wexlo's own), so that
/// `--force` with a mistyped name cannot remove somebody's files. What appears at the name while
/// the folder is filled is looked at again in the moment of the commit.
class OutputFolder {
 public:
  /// Makes missing folders above it.
  [[nodiscard]] static Result<OutputFolder> create(const std::filesystem::path& target,
                                                   Overwrite overwrite, std::string marker);
  OutputFolder(OutputFolder&& other) noexcept;
  OutputFolder& operator=(OutputFolder&&) = delete;
  ~OutputFolder();
  [[nodiscard]] const std::filesystem::path& path() const { return temporary_; }  ///< write here
  /// Errors: Exists (something is there that is not to be replaced), and those of writing.
  [[nodiscard]] Status commit();
  /// An error that names a file of the temporary, naming it as it would have been called.
  [[nodiscard]] Error with_final_name(Error error) const;

 private:
  [[nodiscard]] Status flush() const;
  [[nodiscard]] Status replace();
  OutputFolder(MadeFolders folders, std::filesystem::path target, std::filesystem::path temporary,
               std::string marker, Overwrite overwrite, int lock)
      : folders_(std::move(folders)),
        target_(std::move(target)),
        temporary_(std::move(temporary)),
        marker_(std::move(marker)),
        overwrite_(overwrite),
        lock_(lock) {}
  MadeFolders folders_;  ///< go last, when the temporary is gone
  std::filesystem::path target_, temporary_;
  std::string marker_;
  Overwrite overwrite_;
  int lock_;  ///< says that its owner lives; -1: the file system has no locks
};

}  // namespace wexlo
