#pragma once
/// A kit's folder while it is filled: what is written is read back, and every file has its digest.

#include <filesystem>
#include <functional>
#include <map>
#include <set>

#include "base/pool.hpp"
#include "base/source.hpp"
#include "kit/facts/kit_file.hpp"

namespace wexlo {

/// Names in a kit's folder.
inline constexpr std::string_view kKitManifest = "kit.json";
/// The public key blob that a kit brings along for the phone to trust.
inline constexpr std::string_view kKitKey = "key/root-key.bin";
/// The list of all files and their SHA-256, in the form that `sha256sum -c` reads.
inline constexpr std::string_view kKitDigests = "digests.txt";
inline constexpr std::string_view kReportFile = "report.html";
/// What is appended while the kit is flashed: no digest covers it.
inline constexpr std::string_view kFlashLog = "flash-log.jsonl";
/// What was seen of the phones afterwards, appended: its own digests cover it.
inline constexpr std::string_view kRecordFile = "record.toml";

/// Whether a name that a document gives stays inside the kit's folder.
[[nodiscard]] bool is_inside(const std::filesystem::path& name);

/// All files below a folder, of whatever sort, by their names in it. Errors: Io, Permission.
[[nodiscard]] Result<std::set<std::string>> names_below(const std::filesystem::path& folder);

class KitFolder {
 public:
  KitFolder(std::filesystem::path folder, const Context& context)
      : folder_(std::move(folder)), context_(context) {}

  [[nodiscard]] const std::filesystem::path& path() const { return folder_; }
  [[nodiscard]] const Context& context() const { return context_; }
  /// A folder inside. Errors: those of writing.
  [[nodiscard]] Status make(const std::string& name) const;
  /// A new file. Errors: those of writing, Io (it does not read back the same).
  /// @param sha256  of the bytes, where it is known; lower-case hex
  [[nodiscard]] Result<KitFile> put(const std::string& name, View bytes, std::string sha256 = {});
  /// The same from a source of any size: holes stay holes.
  [[nodiscard]] Result<KitFile> copy(const std::string& name, const Source& source);
  /// The same from somebody who gives the bytes one after the other.
  using Giver = std::function<Status(const std::function<Status(View)>& out)>;
  [[nodiscard]] Result<KitFile> stream(const std::string& name, const Giver& giver);
  /// Writes the list of all files, by the digests they were meant to have. Errors: those of
  /// writing, Unexplained (a file is there that was not written here, or one is gone).
  [[nodiscard]] Status list() const;
  /// What was written so far, by name.
  [[nodiscard]] const std::map<std::string, KitFile>& written() const { return meant_; }

 private:
  Status compare(const KitFile& meant) const;
  Status compare(const KitFile& meant, View bytes) const;
  Result<KitFile> read_back(KitFile meant);
  std::filesystem::path folder_;
  const Context& context_;
  std::map<std::string, KitFile> meant_;  ///< by name
};

}  // namespace wexlo
