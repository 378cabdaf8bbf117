#include "text/toml_read.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/source.hpp"

namespace wexlo {
namespace {

constexpr std::uint64_t kMaxText = 4u << 20;
constexpr unsigned kMaxParts = 32, kMaxDepth = 32;
constexpr std::uint64_t kMaxValues = 200'000;

/// Where a quoted text that begins at `at` ends: behind its closing quotes, or at what breaks it
/// off.
std::size_t quoted_end(std::string_view text, std::size_t at) {
  const char quote = text[at];
  const bool many = text.substr(at, 3) == std::string(3, quote);
  for (at += many ? 3 : 1; at < text.size(); ++at) {
    if (text[at] == '\\' && quote == '"') {
      ++at;
    } else if (many) {
      if (text.substr(at, 3) == std::string(3, quote)) return at + 3;
    } else if (text[at] == quote || text[at] == '\n') {
      return at + 1;
    }
  }
  return text.size();
}

}  // namespace

Result<toml::table> read_toml(const std::filesystem::path& path) {
  WEXLO_TRY(const SourcePtr source, open_file(path));
  WEXLO_TRY(const Blob text, read_all(*source, kMaxText));
  return parse_toml(as_text(text.view()), path.string());
}

Status check_toml_shape(std::string_view text, const std::string& name) {
  unsigned parts = 1, depth = 0;
  std::uint64_t values = 0;
  for (std::size_t i = 0; i < text.size();) {
    const char c = text[i];
    if (c == '"' || c == '\'') {
      i = quoted_end(text, i);
      continue;
    }
    if (c == '#') {
      i = std::min(text.find('\n', i), text.size());
      continue;
    }
    ++i;
    if (c == '.') ++parts;
    if (c == '\n' || c == '=' || c == ',' || c == '[' || c == ']' || c == '{' || c == '}')
      parts = 1;
    if (c == '[' || c == '{') ++depth;
    if ((c == ']' || c == '}') && depth > 0) --depth;
    if (c == '=' || c == ',') ++values;
    if (parts <= kMaxParts && depth <= kMaxDepth && values <= kMaxValues) continue;
    const auto line =
        1 + std::count(text.begin(), text.begin() + static_cast<std::ptrdiff_t>(i - 1), '\n');
    return fail({.code = ErrorCode::LimitExceeded,
                 .message = fmt::format("line {}: {}", line,
                                        parts > kMaxParts   ? "a key has too many parts"
                                        : depth > kMaxDepth ? "values are nested too deep"
                                                            : "there are too many values"),
                 .file = name,
                 .expected = fmt::format("at most {}", parts > kMaxParts   ? kMaxParts
                                                       : depth > kMaxDepth ? kMaxDepth
                                                                           : kMaxValues),
                 .hint = "No file of this kind needs that: check where it is from."});
  }
  return {};
}

Result<toml::table> parse_toml(std::string_view text, const std::string& name) {
  WEXLO_CHECK(check_toml_shape(text, name));
  try {
    return toml::parse(text, name);
  } catch (const toml::parse_error& error) {
    return fail({.code = ErrorCode::BadValue,
                 .message = fmt::format("line {}, column {}: {}", error.source().begin.line,
                                        error.source().begin.column, error.description()),
                 .file = name,
                 .hint = "Correct the line and run it again."});
  }
}

Error toml_error(const toml::node& node, std::string message, std::string file) {
  const auto line = node.source().begin.line;
  return {.code = ErrorCode::BadValue,
          .message = line == 0 ? message : fmt::format("line {}: {}", line, message),
          .file = std::move(file),
          .hint = "Correct the line and run it again."};
}

}  // namespace wexlo
