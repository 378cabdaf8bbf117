#include "text/toml_write.hpp"

#include <fmt/format.h>

#include "text/text.hpp"

namespace wexlo {

TomlWriter& TomlWriter::line(std::string_view key, std::string_view value) {
  out_ += fmt::format("{} = {}\n", key, value);
  return *this;
}

TomlWriter& TomlWriter::comment(std::string_view line) {
  out_ += fmt::format("# {}\n", line);
  return *this;
}

TomlWriter& TomlWriter::table(std::string_view name) {
  out_ += fmt::format("\n[{}]\n", name);
  return *this;
}

TomlWriter& TomlWriter::entry(std::string_view name) {
  out_ += fmt::format("\n[[{}]]\n", name);
  return *this;
}

TomlWriter& TomlWriter::blank() {
  out_ += '\n';
  return *this;
}

TomlWriter& TomlWriter::text(std::string_view key, std::string_view value) {
  return line(key, toml_quote_utf8(value));
}

TomlWriter& TomlWriter::number(std::string_view key, std::uint64_t value) {
  return line(key, fmt::format("{}", value));
}

TomlWriter& TomlWriter::hex(std::string_view key, std::uint64_t value) {
  return line(key, fmt::format("{:#x}", value));
}

TomlWriter& TomlWriter::flag(std::string_view key, bool value) {
  return line(key, value ? "true" : "false");
}

TomlWriter& TomlWriter::texts(std::string_view key, const std::vector<std::string>& values) {
  std::string list = "[";
  for (const std::string& value : values)
    list += (list.size() == 1 ? "" : ", ") + toml_quote_utf8(value);
  return line(key, list + "]");
}

TomlWriter& TomlWriter::text_if(std::string_view key, std::string_view value) {
  return value.empty() ? *this : text(key, value);
}

TomlWriter& TomlWriter::texts_if(std::string_view key, const std::vector<std::string>& values) {
  return values.empty() ? *this : texts(key, values);
}

TomlWriter& TomlWriter::flag_if(std::string_view key, bool value) {
  return value ? flag(key, value) : *this;
}

}  // namespace wexlo
