#pragma once
/// A kit that is there: opened, checked and read. One for everybody who works with it.

#include "kit/folder/kit_files.hpp"
#include "kit/folder/manifest.hpp"
#include "kit/plan/plan.hpp"

namespace wexlo {

/// Whether a folder is a kit, though its manifest may be gone.
[[nodiscard]] bool is_kit(const std::filesystem::path& folder);
/// Where the images that belong to a path are: of a kit, those to be flashed; else the path itself.
[[nodiscard]] std::string images_of(const std::string& path);

class Kit {
 public:
  /// Errors: BadMagic (the folder is none), those of its manifest.
  [[nodiscard]] static Result<Kit> open(const std::filesystem::path& folder);

  [[nodiscard]] const std::filesystem::path& folder() const { return folder_; }
  [[nodiscard]] const KitManifest& manifest() const { return manifest_; }

  /// Every file that manifest and list of digests name is there, with the size and digest they say,
  /// and none besides. Errors: Interrupted.
  [[nodiscard]] Result<KitState> verify(const Context& context) const;
  /// The plan, as it was written. Errors: DigestMismatch (it was changed), those of read_plan.
  [[nodiscard]] Result<Plan> plan() const;
  /// A file of it for reading. Errors: UnsafePath (outside of the kit), those of open_file.
  [[nodiscard]] Result<SourcePtr> file(const std::string& name) const;
  /// The path of a file that the manifest names. Errors: DigestMismatch (it was changed since, or
  /// is none of the kit's), those of reading, Interrupted.
  [[nodiscard]] Result<std::filesystem::path> unchanged(const std::string& name,
                                                        const Context& context) const;
  /// The phone's sheet that it was made with; nullopt: none was given. Errors: as unchanged.
  [[nodiscard]] Result<std::optional<Sheet>> sheet(const Context& context) const;
  /// The recipes that it was made with. Errors: Unsupported (it does not say), DigestMismatch,
  /// Usage (a setting that none has), those of reading recipes.
  /// @param settings  of their parameters, in the place of what was given then
  [[nodiscard]] Result<std::vector<Recipe>> recipes(const Settings& settings) const;

 private:
  Kit(std::filesystem::path folder, KitManifest manifest)
      : folder_(std::move(folder)), manifest_(std::move(manifest)) {}
  std::filesystem::path folder_;
  KitManifest manifest_;
};

/// The same of a folder whose manifest does not read: the list of digests tells what is missing.
/// Errors: those of the manifest where it is there and damaged; Interrupted. Precondition: is_kit.
[[nodiscard]] Result<KitState> verify_kit(const std::filesystem::path& folder,
                                          const Context& context);

}  // namespace wexlo
