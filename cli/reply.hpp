#pragma once
/// What a command gives back, and the one place that prints it: text for people or one JSON
/// document, the wording of errors, the exit codes.

#include <functional>
#include <iosfwd>
#include <optional>
#include <string>
#include <vector>

#include "base/error.hpp"
#include "base/finding.hpp"
#include "base/pool.hpp"
#include "paint.hpp"
#include "settings.hpp"
#include "text/json.hpp"

namespace wexlo::cli {

/// Set by the global options.
struct Globals {
  bool json = false, quiet = false, verbose = false;
};

/// What every command is given.
struct Session {
  std::ostream& out;
  std::ostream& err;
  Globals globals;
  Paint paint;
  Context context;
  std::function<void()> before_output{};  ///< takes a progress line away; may be empty
  UserSettings settings{};
};

struct Reply {
  Json result = Json::object();
  std::vector<Finding> findings;
  std::string text;       ///< for people; ends with a line end
  bool as_it_is = false;  ///< the text is for a file or a program: it is never folded
  std::string reasons;    ///< what of it stays with --quiet
  std::string ending;     ///< behind the findings: the verdict, what comes next
  bool well = true;       ///< false: done, but a person has to look (exit code 1)
  /// Nothing was written, and this is why; what was found out is in the result all the same.
  std::optional<Error> refusal;
};

enum ExitCode : int {
  ExitDone = 0,
  ExitFinding = 1,
  ExitUsage = 2,
  ExitDamaged = 3,
  ExitUnsupported = 4,
  ExitIo = 5,
  ExitPhone = 6,
  ExitInterrupted = 130,
};
[[nodiscard]] ExitCode exit_code(ErrorCode code);

/// Prints text for people, folded to the terminal.
void tell(const Session& session, std::ostream& out, std::string_view text);

/// Prints the reply or the error and gives the exit code.
int finish(Session& session, const std::string& command, Result<Reply> reply);

}  // namespace wexlo::cli
