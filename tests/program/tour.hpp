#pragma once
/// The folder that `wexlo demo --all` leaves, for tests of what pages and help show.

#include <set>

#include "program/support.hpp"

namespace wexlo::test {

/// Made once for all tests of the program; a test works in a copy.
inline const std::filesystem::path& tour_folder() {
  static const TempDir dir;
  static const std::filesystem::path folder = [] {
    const Ran ran = program(dir, {"demo", "tour", "--all", "--quiet"});
    REQUIRE_MESSAGE(ran.exit_code == 0, ran.err);
    const Ran key = program(dir, {"keys", "new", "tour/my-key.pem", "--bits", "2048"});
    REQUIRE_MESSAGE(key.exit_code == 0, key.err);
    return dir / "tour";
  }();
  return folder;
}

/// Every file and folder below one, by its place in it.
inline std::set<std::string> names_below(const std::filesystem::path& folder) {
  std::set<std::string> out;
  for (const auto& entry : std::filesystem::recursive_directory_iterator(folder))
    out.insert(entry.path().lexically_relative(folder).string());
  return out;
}

/// A copy of it: its files are linked, since nothing writes into a file that is there.
class Tour {
 public:
  Tour() {
    namespace fs = std::filesystem;
    fs::copy(tour_folder(), dir_.path(),
             fs::copy_options::recursive | fs::copy_options::create_hard_links |
                 fs::copy_options::copy_symlinks);
    std::filesystem::create_directory_symlink(std::filesystem::path(built_program()).parent_path(),
                                              dir_ / ".bin");
  }
  /// A shell's line with `wexlo` in its path, 80 columns wide unless told otherwise.
  [[nodiscard]] Ran line(const std::string& text, int columns = 80) const {
    return shell(
        "export PATH=\"$PWD/.bin:$PATH\" XDG_CONFIG_HOME=/nonexistent NO_COLOR=1 COLUMNS=" +
            std::to_string(columns) + "; " + text,
        dir_.path().string());
  }
  [[nodiscard]] const std::filesystem::path& path() const { return dir_.path(); }

 private:
  TempDir dir_;
};

}  // namespace wexlo::test
