#include "recipe/journal.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "text/text.hpp"
#include "text/toml_read.hpp"

namespace wexlo {
namespace {

constexpr std::int64_t kFormat = 1;

std::vector<std::string> texts_of(const toml::array* list) {
  std::vector<std::string> out;
  if (list != nullptr)
    for (const toml::node& one : *list)
      out.push_back(one.value_or(std::string()));
  return out;
}

std::string format_texts(std::string_view name, const std::vector<std::string>& texts) {
  if (texts.empty()) return {};
  std::string out = fmt::format("{} = [\n", name);
  for (const std::string& text : texts)
    out += fmt::format("  {},\n", toml_quote_utf8(text));
  return out + "]\n";
}

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
  WEXLO_TRY(journal.stock_sha1, toml_get_or<std::string>(table, "stock_sha1", "", file));
  WEXLO_TRY(const auto size, toml_get<std::int64_t>(table, "stock_size", file));
  journal.stock_size = static_cast<std::uint64_t>(size);
  WEXLO_TRY(journal.way_back, toml_get_or<std::string>(table, "no_way_back", "", file));
  journal.shows = texts_of(table["shows"].as_array());
  journal.foreign = texts_of(table["onto_foreign"].as_array());
  WEXLO_TRY(journal.ramdisk_made, toml_get_or<bool>(table, "ramdisk_made", false, file));
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
  if (!journal.stock_sha1.empty()) out += fmt::format("stock_sha1 = \"{}\"\n", journal.stock_sha1);
  if (!journal.way_back.empty())
    out += fmt::format("no_way_back = {}\n", toml_quote(journal.way_back));
  out += format_texts("shows", journal.shows);
  out += format_texts("onto_foreign", journal.foreign);
  if (journal.ramdisk_made) out += "ramdisk_made = true\n";
  for (const JournalEdit& edit : journal.edits)
    out += fmt::format("\n[[edit]]\nrecipe = {}\nkind = {}\nsummary = {}\ndigest = \"{}\"\n",
                       toml_quote(edit.recipe), toml_quote(edit.kind), toml_quote(edit.summary),
                       edit.digest);
  return out;
}

}  // namespace wexlo
