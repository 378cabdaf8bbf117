#pragma once
/// Folders that are made on the way to an output, and go again when no output came.

#include <filesystem>
#include <vector>

#include "base/error.hpp"

namespace wexlo {

class MadeFolders {
 public:
  MadeFolders() = default;
  /// Makes `folder` and all that is missing above it; what is there stays as it is.
  /// Errors: Exists (a file is in the way), Permission, Io, NoSpace: each names the folder that
  /// could not be made.
  [[nodiscard]] static Result<MadeFolders> make(const std::filesystem::path& folder);
  /// Those above an output.
  [[nodiscard]] static Result<MadeFolders> above(const std::filesystem::path& target);
  MadeFolders(MadeFolders&& other) noexcept : made_(std::move(other.made_)) { other.made_.clear(); }
  MadeFolders& operator=(MadeFolders&&) = delete;
  /// Removes what it made, as far as it is empty.
  ~MadeFolders();
  void keep() { made_.clear(); }

 private:
  std::vector<std::filesystem::path> made_;  ///< the outer ones first
};

}  // namespace wexlo
