#pragma once
/// A kit's folder while it is filled: what is written is read back, and every file has its digest.

#include <filesystem>
#include <functional>
#include <map>

#include "base/pool.hpp"
#include "base/source.hpp"
#include "kit/plan/plan.hpp"

namespace wexlo {

inline constexpr std::string_view kKitManifest = "kit.json";
/// The public key blob that a kit brings along for the phone to trust.
inline constexpr std::string_view kKitKey = "key/root-key.bin";
/// The list of all files and their SHA-256, in the form that `sha256sum -c` reads.
inline constexpr std::string_view kKitDigests = "digests.txt";

class KitFolder {
 public:
  KitFolder(std::filesystem::path folder, const Context& context)
      : folder_(std::move(folder)), context_(context) {}

  [[nodiscard]] const std::filesystem::path& path() const { return folder_; }
  [[nodiscard]] const Context& context() const { return context_; }
  /// A folder inside. Errors: those of writing.
  [[nodiscard]] Status make(const std::string& name) const;
  /// A new file. Errors: those of writing, Io (it does not read back the same).
  [[nodiscard]] Result<PlanFile> put(const std::string& name, View bytes);
  /// The same from a source of any size: holes stay holes.
  [[nodiscard]] Result<PlanFile> copy(const std::string& name, const Source& source);
  /// The same from somebody who gives the bytes one after the other.
  using Giver = std::function<Status(const std::function<Status(View)>& out)>;
  [[nodiscard]] Result<PlanFile> stream(const std::string& name, const Giver& giver);
  /// Writes the list of all files, by the digests they were meant to have. Errors: those of
  /// writing, Unexplained (a file is there that was not written here, or one is gone).
  [[nodiscard]] Status list() const;

 private:
  Status compare(const PlanFile& meant) const;
  Result<PlanFile> read_back(PlanFile meant);
  std::filesystem::path folder_;
  const Context& context_;
  std::map<std::string, PlanFile> meant_;  ///< by name
};

}  // namespace wexlo
