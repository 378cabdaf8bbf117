#pragma once
/// What one line tells. Each function takes the line as it may be meant, and gives what kind of a
/// line it is; Unknown: none of its own.

#include "observed/observed.hpp"

namespace wexlo {

class LineReader {
 public:
  explicit LineReader(Observed& out) : out_(out) {}
  /// `[name]: [value]`, anywhere in the line.
  [[nodiscard]] LineKind bracketed(std::string_view text, const SeenAt& at);
  /// `Linux version …`, or what `uname -a` prints.
  [[nodiscard]] LineKind kernel(std::string_view text, const SeenAt& at);
  [[nodiscard]] LineKind user(std::string_view text, const SeenAt& at);   ///< `uid=0(root) …`
  [[nodiscard]] LineKind mount(std::string_view text, const SeenAt& at);  ///< of either listing
  /// `name = "value"` of a boot configuration.
  [[nodiscard]] LineKind configured(std::string_view text, const SeenAt& at);
  [[nodiscard]] LineKind command_line(std::string_view text, const SeenAt& at);
  [[nodiscard]] LineKind alone(std::string_view text, const SeenAt& at);  ///< a word that says all
  /// `name=value` and `name: value` of names that are known.
  [[nodiscard]] LineKind named(std::string_view text, const SeenAt& at);
  /// The line behind a command that was typed.
  [[nodiscard]] LineKind answer(std::string_view command, std::string_view text, const SeenAt& at);
  /// @param text  what stands behind the log's time
  void log(std::string_view text, const SeenAt& at);
  /// @return whether the line shows trouble that is known
  bool sign(std::string_view text, const SeenAt& at);

 private:
  void property(const std::string& name, const std::string& value, const SeenAt& at);
  void word(std::string_view text, const SeenAt& at);
  void words(std::string_view line, const SeenAt& at);
  void add(Fact fact, std::string value, const SeenAt& at);
  Observed& out_;
  std::map<Fact, std::size_t> ranks_;  ///< of the best property that said it
};

}  // namespace wexlo
