#pragma once
/// Writing TOML, line by line: what toml_read.hpp reads. The same calls give the same bytes.

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

namespace wexlo {

class TomlWriter {
 public:
  TomlWriter& comment(std::string_view line);
  TomlWriter& table(std::string_view name);  ///< `[name]`, after an empty line
  TomlWriter& entry(std::string_view name);  ///< `[[name]]`: the next table of a list
  TomlWriter& blank();
  /// Text is written as UTF-8; bytes that are none become U+FFFD.
  TomlWriter& text(std::string_view key, std::string_view value);
  TomlWriter& number(std::string_view key, std::uint64_t value);
  TomlWriter& hex(std::string_view key, std::uint64_t value);
  TomlWriter& flag(std::string_view key, bool value);
  TomlWriter& texts(std::string_view key, const std::vector<std::string>& values);
  /// The same, left out where there is nothing.
  TomlWriter& text_if(std::string_view key, std::string_view value);
  TomlWriter& texts_if(std::string_view key, const std::vector<std::string>& values);
  TomlWriter& flag_if(std::string_view key, bool value);

  [[nodiscard]] const std::string& str() const { return out_; }

 private:
  TomlWriter& line(std::string_view key, std::string_view value);
  std::string out_;
};

}  // namespace wexlo
