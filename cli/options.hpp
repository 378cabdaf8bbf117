#pragma once
/// A command's options, without the library's heavy header. The values live as long as the command
/// does; the command runs when its line was parsed.

#include <functional>
#include <string>
#include <vector>

namespace CLI {
class App;
}

namespace wexlo::cli {

enum class Need { Optional, Required };

class Command {
 public:
  Command(CLI::App& app, const std::string& name, const std::string& about);

  Command& positional(const std::string& name, std::string& value, const std::string& about,
                      Need need = Need::Required);
  Command& positional(const std::string& name, std::vector<std::string>& values,
                      const std::string& about, Need need = Need::Required);
  /// @param names  `-o,--output`  @param type  the value's name in the help
  Command& option(const std::string& names, const std::string& type, std::string& value,
                  const std::string& about, Need need = Need::Optional);
  Command& option(const std::string& names, const std::string& type,
                  std::vector<std::string>& values, const std::string& about,
                  Need need = Need::Optional);
  /// As above, and several values may follow one name: `-r A B`.
  Command& list(const std::string& names, const std::string& type, std::vector<std::string>& values,
                const std::string& about, Need need = Need::Optional);
  Command& choice(const std::string& names, const std::vector<std::string>& choices,
                  std::string& value, const std::string& about);
  Command& flag(const std::string& names, bool& value, const std::string& about);
  /// Two options or positionals that cannot be given together.
  Command& excludes(const std::string& one, const std::string& other);
  void runs(std::function<void()> run);

 private:
  CLI::App* command_;
};

}  // namespace wexlo::cli
