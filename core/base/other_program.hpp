#pragma once
/// Running another program: started directly, never through a shell; it reads files and writes
/// files.

#include <chrono>
#include <filesystem>
#include <optional>
#include <stop_token>
#include <string>
#include <vector>

#include "base/error.hpp"

namespace wexlo {

/// A folder under the one for temporary files that only its owner may read; gone with all in it
/// when nobody needs it.
class PrivateFolder {
 public:
  /// @param what  a word for its name  Errors: Permission, NoSpace, Io.
  [[nodiscard]] static Result<PrivateFolder> create(std::string_view what);
  PrivateFolder(PrivateFolder&& other) noexcept;
  PrivateFolder& operator=(PrivateFolder&&) = delete;
  ~PrivateFolder();
  [[nodiscard]] const std::filesystem::path& path() const { return path_; }

 private:
  explicit PrivateFolder(std::filesystem::path path) : path_(std::move(path)) {}
  std::filesystem::path path_;
};

/// What the program can reach.
enum class Reach : std::uint8_t {
  Open,  ///< all that its user can, with the user's environment
  /// No network (it can open no socket), an environment of its own, and no more processor time than
  /// its patience. Files are open to it as to its user.
  Closed,
};

struct ProgramCall {
  std::vector<std::string> words;  ///< the program first: a path, or a name to look for in PATH
  std::filesystem::path folder;    ///< that it is started in; empty: this one
  std::chrono::seconds patience{60};
  Reach reach = Reach::Open;
  /// Gets what it prints; empty: that goes where this program's messages go.
  std::filesystem::path said;
};

struct ProgramEnd {
  std::optional<int> exit_code;  ///< nullopt: a signal ended it, or it took too long
  int signal = 0;                ///< 0: none
  bool late = false;             ///< it was ended for taking longer than it had
  [[nodiscard]] bool ok() const { return exit_code == 0; }
  [[nodiscard]] std::string text() const;  ///< a clause for people
};

/// Waits for it. What a closed one started and left running is ended with it.
/// Errors: Interrupted, Unsupported (this system cannot keep it from the network), NotFound and
/// Permission and Io (it does not start: `file` names it).
[[nodiscard]] Result<ProgramEnd> run_program(const ProgramCall& call, const std::stop_token& stop);

}  // namespace wexlo
