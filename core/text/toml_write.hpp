#pragma once
/// Writing TOML, line by line: what toml_read.hpp reads. The same calls give the same bytes.

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

namespace wexlo {

/// A key as it stands in a line: bare where it may, else quoted.
[[nodiscard]] std::string toml_key(std::string_view key);

/// Keys are written as they are given: one that may hold anything goes through toml_key.
class TomlWriter {
 public:
  TomlWriter& comment(std::string_view line);
  /// `[name]`, after an empty line. @param remark  a comment behind it
  TomlWriter& table(std::string_view name, std::string_view remark = {});
  TomlWriter& entry(std::string_view name);  ///< `[[name]]`: the next table of a list
  /// Text is written as UTF-8; bytes that are none become U+FFFD.
  TomlWriter& text(std::string_view key, std::string_view value);
  TomlWriter& number(std::string_view key, std::uint64_t value);
  /// A value that is spelled already. @param remark  a comment behind it
  TomlWriter& value(std::string_view key, std::string_view spelled, std::string_view remark = {});
  TomlWriter& flag(std::string_view key, bool value);
  TomlWriter& texts(std::string_view key, const std::vector<std::string>& values);
  /// The same, left out where there is nothing.
  TomlWriter& text_if(std::string_view key, std::string_view value);
  TomlWriter& texts_if(std::string_view key, const std::vector<std::string>& values);
  TomlWriter& flag_if(std::string_view key, bool value);

  [[nodiscard]] const std::string& str() const { return out_; }

 private:
  std::string out_;
};

}  // namespace wexlo
