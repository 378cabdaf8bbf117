#include "text/toml_write.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>

#include "text/text.hpp"

namespace wexlo {

std::string toml_key(std::string_view key) {
  const bool bare = !key.empty() && std::ranges::all_of(key, [](unsigned char c) {
    return std::isalnum(c) != 0 || c == '_' || c == '-';
  });
  return bare ? std::string(key) : toml_quote_utf8(key);
}

TomlWriter& TomlWriter::value(std::string_view key, std::string_view spelled,
                              std::string_view remark) {
  out_ += fmt::format("{} = {}{}{}\n", key, spelled, remark.empty() ? "" : "  # ", remark);
  return *this;
}

TomlWriter& TomlWriter::comment(std::string_view line) {
  out_ += fmt::format("# {}\n", line);
  return *this;
}

TomlWriter& TomlWriter::table(std::string_view name, std::string_view remark) {
  out_ += fmt::format("\n[{}]{}{}\n", name, remark.empty() ? "" : "  # ", remark);
  return *this;
}

TomlWriter& TomlWriter::entry(std::string_view name) {
  out_ += fmt::format("\n[[{}]]\n", name);
  return *this;
}

TomlWriter& TomlWriter::text(std::string_view key, std::string_view text) {
  return value(key, toml_quote_utf8(text));
}

TomlWriter& TomlWriter::number(std::string_view key, std::uint64_t number) {
  return value(key, fmt::format("{}", number));
}

TomlWriter& TomlWriter::flag(std::string_view key, bool flag) {
  return value(key, flag ? "true" : "false");
}

TomlWriter& TomlWriter::texts(std::string_view key, const std::vector<std::string>& values) {
  std::string list = "[";
  for (const std::string& value : values)
    list += (list.size() == 1 ? "" : ", ") + toml_quote_utf8(value);
  return value(key, list + "]");
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
