#include "kit/folder/record.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <array>

#include "base/digest.hpp"
#include "base/word_table.hpp"
#include "kit/folder/kit_folder.hpp"
#include "text/hex.hpp"
#include "text/text.hpp"
#include "text/toml_read.hpp"
#include "text/toml_write.hpp"

namespace wexlo {
namespace {

constexpr std::int64_t kRecordFormat = 1;
constexpr std::uint64_t kMaxRecord = 16u << 20;
constexpr std::string_view kEntryLine = "[[entry]]\n", kSealLine = "sha256 = ";
constexpr std::string_view kFirst =
    "0000000000000000000000000000000000000000000000000000000000000000";
constexpr std::string_view kHead =
    "# What was seen of the phones that this kit was flashed to. Entries are appended, never\n"
    "# changed: each has the digest of the one before it. `wexlo check` looks at them.\n"
    "format = 1\n";

/// In the order of the enums.
constexpr std::array<std::string_view, 4> kTook{"took", "in-part", "did-not-take", "cannot-tell"};
constexpr std::array<std::string_view, 3> kRow{"holds", "differs", "not-seen"};

/// The text that the digest is over: everything but the digest, key and signature themselves.
std::string format_entry(const RecordEntry& one, const std::string& before) {
  TomlWriter out;
  out.text("time", one.time).text("verdict", took_word(one.verdict)).text("reason", one.reason);
  out.text_if("technician", one.technician).text("wexlo", one.wexlo);
  out.text_if("serial", one.serial).text_if("product", one.product);
  out.text_if("device", one.device).text_if("build", one.build);
  out.text("kit_sha256", one.kit_sha256);
  out.text_if("flashed", one.flashed).text_if("direction", one.direction);
  out.texts_if("facts", one.facts);
  for (const RecordStep& step : one.steps)
    out.entry("entry.step")
        .text("id", step.id)
        .text("outcome", step.outcome)
        .text_if("detail", step.detail);
  for (const RecordRow& row : one.rows)
    out.entry("entry.row")
        .text("what", row.what)
        .text("planned", row.planned)
        .text("observed", row.observed)
        .text("verdict", row_verdict_word(row.verdict))
        .text_if("evidence", row.evidence);
  out.table("entry.seal").text("before", before);
  return std::string(kEntryLine) + out.str();
}

class EntryReader {
 public:
  EntryReader(const toml::table& table, const std::string& file) : table_(table), file_(file) {}

  Result<RecordedEntry> read() {
    RecordedEntry out;
    RecordEntry& one = out.entry;
    WEXLO_TRY(one.time, toml_get<std::string>(table_, "time", file_));
    WEXLO_TRY(one.verdict, word<Took>(table_, "verdict", kTook));
    WEXLO_TRY(one.reason, toml_get<std::string>(table_, "reason", file_));
    WEXLO_TRY(one.kit_sha256, toml_get<std::string>(table_, "kit_sha256", file_));
    for (auto& [key, value] : std::initializer_list<std::pair<const char*, std::string*>>{
             {"technician", &one.technician},
             {"wexlo", &one.wexlo},
             {"serial", &one.serial},
             {"product", &one.product},
             {"device", &one.device},
             {"build", &one.build},
             {"flashed", &one.flashed},
             {"direction", &one.direction}}) {
      WEXLO_TRY(*value, toml_get_or<std::string>(table_, key, "", file_));
    }
    WEXLO_TRY(const toml::array* const facts, toml_list(table_, "facts", file_));
    if (facts != nullptr)
      for (const toml::node& fact : *facts)
        one.facts.push_back(fact.value_or(std::string()));
    WEXLO_CHECK(steps(one));
    WEXLO_CHECK(rows(one));
    WEXLO_CHECK(seal(out));
    return out;
  }

 private:
  template <class E, std::size_t N>
  Result<E> word(const toml::table& table, const char* key,
                 const std::array<std::string_view, N>& words) const {
    WEXLO_TRY(const auto text, toml_get<std::string>(table, key, file_));
    if (const auto one = of_word<E>(words, text)) return *one;
    Error why = toml_error(*table.get(key), fmt::format("{} is no word of a record", key), file_);
    why.expected = fmt::format("{}", fmt::join(words, ", "));
    why.found = text;
    why.hint = "wexlo check tells whether the record was changed; take a copy that is whole.";
    return fail(std::move(why));
  }

  Status steps(RecordEntry& out) const {
    WEXLO_TRY(const auto tables, toml_tables(table_, "step", file_));
    for (const toml::table* table : tables) {
      RecordStep& step = out.steps.emplace_back();
      WEXLO_TRY(step.id, toml_get<std::string>(*table, "id", file_));
      WEXLO_TRY(step.outcome, toml_get<std::string>(*table, "outcome", file_));
      WEXLO_TRY(step.detail, toml_get_or<std::string>(*table, "detail", "", file_));
    }
    return {};
  }

  Status rows(RecordEntry& out) const {
    WEXLO_TRY(const auto tables, toml_tables(table_, "row", file_));
    for (const toml::table* table : tables) {
      RecordRow& row = out.rows.emplace_back();
      WEXLO_TRY(row.what, toml_get<std::string>(*table, "what", file_));
      WEXLO_TRY(row.planned, toml_get<std::string>(*table, "planned", file_));
      WEXLO_TRY(row.observed, toml_get<std::string>(*table, "observed", file_));
      WEXLO_TRY(row.verdict, word<RowVerdict>(*table, "verdict", kRow));
      WEXLO_TRY(row.evidence, toml_get_or<std::string>(*table, "evidence", "", file_));
    }
    return {};
  }

  Status seal(RecordedEntry& out) const {
    const toml::table* const table = table_["seal"].as_table();
    if (table == nullptr) return fail(toml_error(table_, "an entry has no [entry.seal]", file_));
    WEXLO_TRY(out.before, toml_get<std::string>(*table, "before", file_));
    WEXLO_TRY(out.sha256, toml_get<std::string>(*table, "sha256", file_));
    WEXLO_TRY(out.key, toml_get_or<std::string>(*table, "key", "", file_));
    return {};
  }

  const toml::table& table_;
  const std::string& file_;
};

/// Where the entries begin; no value of a text holds a line end, so that none can look like one.
std::vector<std::size_t> starts_of(std::string_view text) {
  std::vector<std::size_t> out;
  for (std::size_t at = text.find(kEntryLine); at != text.npos; at = text.find(kEntryLine, at + 1))
    if (at == 0 || text[at - 1] == '\n') out.push_back(at);
  return out;
}

Status judge_seal(std::string_view block, const toml::table& table, const std::string& before,
                  RecordedEntry& out) {
  const std::size_t end = block.rfind("\n" + std::string(kSealLine));
  const std::string_view covered = end == block.npos ? block : block.substr(0, end + 1);
  out.intact = sha256_hex(as_view(covered)) == out.sha256;
  out.chained = out.before == before;
  if (out.key.empty()) return {};
  const auto key = bytes_of_hex(out.key);
  const auto signature = bytes_of_hex(table["seal"]["signature"].value_or(std::string()));
  out.is_signed = key && signature && verified::signed_with(*key, as_view(covered), *signature);
  return {};
}

}  // namespace

std::string_view took_word(Took took) {
  return kTook[static_cast<std::size_t>(took)];
}
std::string_view row_verdict_word(RowVerdict verdict) {
  return kRow[static_cast<std::size_t>(verdict)];
}
Result<Record> parse_record(std::string_view text, const std::string& file) {
  WEXLO_TRY(const toml::table root, parse_toml(text, file));
  WEXLO_TRY(const auto format, toml_get<std::int64_t>(root, "format", file));
  if (format != kRecordFormat)
    return fail({.code = ErrorCode::Unsupported,
                 .message = "a record of another format version",
                 .file = file,
                 .expected = fmt::format("{}", kRecordFormat),
                 .found = fmt::format("{}", format)});
  WEXLO_TRY(const auto tables, toml_tables(root, "entry", file));
  Record out{.text = std::string(text), .entries = {}};
  const std::vector<std::size_t> starts = starts_of(text);
  if (starts.size() != tables.size())
    return fail({.code = ErrorCode::BadValue,
                 .message = "the record's entries do not stand as they were written",
                 .file = file,
                 .expected = fmt::format("{} entries that begin with [[entry]]", tables.size()),
                 .found = fmt::format("{}", starts.size())});
  std::string before(kFirst);
  for (std::size_t i = 0; i < tables.size(); ++i) {
    WEXLO_TRY(RecordedEntry one, EntryReader(*tables[i], file).read());
    const std::size_t end = i + 1 < starts.size() ? starts[i + 1] : text.size();
    const std::string_view block = text.substr(starts[i], end - starts[i]);
    one.line = 1 + static_cast<std::size_t>(std::ranges::count(text.substr(0, starts[i]), '\n'));
    WEXLO_CHECK(judge_seal(block, *tables[i], before, one));
    before = one.sha256;
    out.entries.push_back(std::move(one));
  }
  return out;
}

Result<Record> read_record(const std::filesystem::path& kit) {
  const std::filesystem::path file = kit / kRecordFile;
  std::error_code ignored;
  if (!std::filesystem::exists(file, ignored)) return Record{};
  WEXLO_TRY(const SourcePtr source, open_file(file));
  WEXLO_TRY(const Blob text, read_all(*source, kMaxRecord));
  return parse_record(as_text(text.view()), file.string());
}

Result<std::string> with_entry(const Record& record, const RecordEntry& entry,
                               const verified::BenchKeyPtr& key) {
  std::string out = record.text.empty() ? std::string(kHead) : record.text;
  const std::string block = format_entry(
      entry, record.entries.empty() ? std::string(kFirst) : record.entries.back().sha256);
  out += "\n" + block + std::string(kSealLine) + toml_quote(sha256_hex(as_view(block))) + "\n";
  if (key == nullptr) return out;
  WEXLO_TRY(const Bytes signature, key->sign(as_view(block)));
  out += fmt::format("key = \"{}\"\nsignature = \"{}\"\n", hex(key->public_key()), hex(signature));
  return out;
}

std::vector<Finding> judge_record(const Record& record) {
  std::vector<Finding> out;
  const auto found = [&](const RecordedEntry& one, std::string what) {
    out.push_back(usual_finding(FindingCode::RecordChanged,
                                fmt::format("The entry of {} {}.", one.entry.time, what),
                                fmt::format("{}:{}", kRecordFile, one.line)));
  };
  for (const RecordedEntry& one : record.entries) {
    if (!one.intact) found(one, "was changed after it was written");
    if (!one.chained)
      found(one, "does not follow the one before it: an entry was changed, taken out or put in");
    if (!one.key.empty() && !one.is_signed) found(one, "has a signature that is not valid");
  }
  return out;
}

}  // namespace wexlo
