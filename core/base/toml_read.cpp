#include "base/toml_read.hpp"

#include <fmt/format.h>

#include "base/source.hpp"

namespace wexlo {
namespace {

constexpr std::uint64_t kMaxText = 4u << 20;

}  // namespace

Result<toml::table> read_toml(const std::filesystem::path& path) {
  WEXLO_TRY(const SourcePtr source, open_file(path));
  WEXLO_TRY(const Blob text, read_all(*source, kMaxText));
  return parse_toml(as_text(text.view()), path.string());
}

Result<toml::table> parse_toml(std::string_view text, const std::string& name) {
  try {
    return toml::parse(text, name);
  } catch (const toml::parse_error& error) {
    return fail({.code = ErrorCode::BadValue,
                 .message = fmt::format("line {}, column {}: {}", error.source().begin.line,
                                        error.source().begin.column, error.description()),
                 .file = name,
                 .hint = "Mend the line and run it again."});
  }
}

Error toml_error(const toml::node& node, std::string message, std::string file) {
  const auto line = node.source().begin.line;
  return {.code = ErrorCode::BadValue,
          .message = line == 0 ? message : fmt::format("line {}: {}", line, message),
          .file = std::move(file),
          .hint = "Mend the line and run it again."};
}

}  // namespace wexlo
