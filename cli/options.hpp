#pragma once
/// A command's options, without the library's heavy header. The values live as long as the command
/// does; the command runs when its line was parsed. Each call adds a row to the table of commands.

#include <functional>
#include <string>
#include <vector>

#include "command_table.hpp"

namespace CLI {
class App;
}

namespace wexlo::cli {

/// The parser and the table of what it takes.
struct Commands {
  CLI::App& app;
  CommandTable table{};
};

enum class Need { Optional, Required };

class Command {
 public:
  /// @param name  of a page in command_pages.cpp
  Command(Commands& commands, std::string_view name);

  Command& operand(const std::string& name, std::string& value, const std::string& about,
                   Need need = Need::Required);
  Command& operand(const std::string& name, std::vector<std::string>& values,
                   const std::string& about, Need need = Need::Required);
  /// The heading of the options that follow.
  Command& section(Section section);
  /// @param names  `-o,--output`  @param type  what the value is, for the help and completion
  Command& option(const std::string& names, const std::string& type, std::string& value,
                  const std::string& about, Need need = Need::Optional);
  /// One value each time it is given.
  Command& option(const std::string& names, const std::string& type,
                  std::vector<std::string>& values, const std::string& about,
                  Need need = Need::Optional);
  /// What OptionRow::gathers says, of the option before.
  Command& gathers();
  Command& choice(const std::string& names, const std::vector<std::string>& choices,
                  std::string& value, const std::string& about);
  Command& flag(const std::string& names, bool& value, const std::string& about);
  /// Two options that contradict each other.
  Command& excludes(const std::string& one, const std::string& other);
  void runs(std::function<void()> run);

 private:
  OptionRow& row(const std::string& names, const std::string& type, const std::string& about,
                 Need need);
  CLI::App* command_;
  CommandRow* row_;
  Section section_ = Section::Main;
};

}  // namespace wexlo::cli
