#include "recipe/journal.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "text/text.hpp"
#include "text/toml_read.hpp"

namespace wexlo {
namespace {

constexpr std::int64_t kFormat = 1;

}  // namespace

bool Journal::has(std::string_view digest) const {
  return std::ranges::find(edits, digest, &JournalEdit::digest) != edits.end();
}

Result<std::optional<Journal>> read_journal(const Ramdisk& ramdisk) {
  const auto at = find_entry(ramdisk, kJournalPlace);
  if (!at) return std::nullopt;
  const std::string file = "/" + std::string(kJournalPlace);
  const Blob text = content_of(ramdisk, *at);
  WEXLO_TRY(const toml::table table, parse_toml(as_text(text.view()), file));
  WEXLO_TRY(const auto format, toml_get<std::int64_t>(table, "format", file));
  if (format != kFormat)
    return fail({.code = ErrorCode::Unsupported,
                 .message = "the image carries a journal of another format",
                 .file = file,
                 .expected = fmt::format("{}", kFormat),
                 .found = fmt::format("{}", format),
                 .hint = "Start from the stock image, or take a newer Wexlo."});
  Journal journal;
  WEXLO_TRY(journal.stock_sha256, toml_get<std::string>(table, "stock_sha256", file));
  WEXLO_TRY(const auto size, toml_get<std::int64_t>(table, "stock_size", file));
  journal.stock_size = static_cast<std::uint64_t>(size);
  WEXLO_TRY(journal.way_back, toml_get_or<std::string>(table, "no_way_back", "", file));
  if (const toml::array* signs = table["onto_foreign"].as_array())
    for (const toml::node& sign : *signs)
      journal.foreign.push_back(sign.value_or(std::string()));
  if (const toml::array* rows = table["edit"].as_array()) {
    for (const toml::node& node : *rows) {
      const toml::table* row = node.as_table();
      if (row == nullptr) return fail(toml_error(node, "edit is not a table", file));
      JournalEdit edit;
      WEXLO_TRY(edit.recipe, toml_get<std::string>(*row, "recipe", file));
      WEXLO_TRY(edit.kind, toml_get<std::string>(*row, "kind", file));
      WEXLO_TRY(edit.summary, toml_get<std::string>(*row, "summary", file));
      WEXLO_TRY(edit.digest, toml_get<std::string>(*row, "digest", file));
      journal.edits.push_back(std::move(edit));
    }
  }
  return journal;
}

std::string format_journal(const Journal& journal) {
  std::string out = fmt::format("format = {}\nstock_sha256 = \"{}\"\nstock_size = {}\n", kFormat,
                                journal.stock_sha256, journal.stock_size);
  if (!journal.way_back.empty())
    out += fmt::format("no_way_back = {}\n", toml_quote(journal.way_back));
  if (!journal.foreign.empty()) {
    out += "onto_foreign = [\n";
    for (const std::string& sign : journal.foreign)
      out += fmt::format("  {},\n", toml_quote(sign));
    out += "]\n";
  }
  for (const JournalEdit& edit : journal.edits)
    out += fmt::format("\n[[edit]]\nrecipe = {}\nkind = {}\nsummary = {}\ndigest = \"{}\"\n",
                       toml_quote(edit.recipe), toml_quote(edit.kind), toml_quote(edit.summary),
                       edit.digest);
  return out;
}

}  // namespace wexlo
