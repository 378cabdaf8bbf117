#pragma once
/// The whole program as a function, so that the demo can run the very commands that it shows.

#include <string>
#include <vector>

namespace wexlo::cli {

struct Session;

/// Runs one command line (without the program's name) and gives its exit code. Context fields of
/// the session that the options do not set (stop, progress) are taken as they are.
int run_program(const std::vector<std::string>& arguments, Session& session);

}  // namespace wexlo::cli
