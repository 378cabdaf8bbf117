#pragma once
/// KIT/record.toml: what was seen of the phones that a kit was flashed to. Entries are appended and
/// never rewritten; each has the digest of the one before it: docs/formats/record.md.

#include <filesystem>

#include "base/finding.hpp"
#include "base/pool.hpp"
#include "verified/bench_key.hpp"

namespace wexlo {

/// Whether a flash took.
enum class Took { Yes, InPart, No, CannotTell };
[[nodiscard]] std::string_view took_word(Took took);  ///< "took", "in-part", …

/// One thing of a phone held against the plan.
enum class RowVerdict { Holds, Differs, NotSeen };
[[nodiscard]] std::string_view row_verdict_word(RowVerdict verdict);

struct RecordRow {
  std::string what, planned, observed;
  RowVerdict verdict = RowVerdict::NotSeen;
  std::string evidence;  ///< where it was seen; or why it was not
  bool operator==(const RecordRow&) const = default;
};

struct RecordStep {
  std::string id, outcome, detail;  ///< as in the flash log
  bool operator==(const RecordStep&) const = default;
};

struct RecordEntry {
  std::string time;        ///< of the look, UTC
  std::string technician;  ///< may be empty
  std::string wexlo;       ///< version that wrote it
  std::string serial, product, device, build;
  std::string kit_sha256;  ///< of kit.json
  std::string flashed;     ///< when the last run began, UTC; empty: no log tells
  std::string direction;   ///< of that run
  Took verdict = Took::CannotTell;
  std::string reason;
  std::vector<RecordStep> steps;
  std::vector<RecordRow> rows;
  std::vector<std::string> facts;  ///< "patch-level = 2026-09-05 (notes.txt:3)"
  bool operator==(const RecordEntry&) const = default;
};

/// An entry as it stands in the file.
struct RecordedEntry {
  RecordEntry entry;
  std::string before;      ///< digest of the entry before it; the first: 64 zeros
  std::string sha256;      ///< of its text up to `before`
  std::string key;         ///< public key, hex; empty: not signed
  bool chained = false;    ///< `before` is the digest of the entry before
  bool intact = false;     ///< `sha256` is the digest of its text
  bool is_signed = false;  ///< the signature is valid for the key that it names
  std::size_t line = 0;    ///< in the file, from 1
};

struct Record {
  std::string text;  ///< of the whole file
  std::vector<RecordedEntry> entries;
};

/// Errors: BadValue with the line, Unsupported (another format), LimitExceeded.
[[nodiscard]] Result<Record> parse_record(std::string_view text, const std::string& file);
/// Of a kit's folder; no file: no entries. Errors: besides, those of reading.
[[nodiscard]] Result<Record> read_record(const std::filesystem::path& kit);

/// The file's text with one more entry behind the others, whose bytes are kept.
/// @param key  nullptr: it is not signed
[[nodiscard]] Result<std::string> with_entry(const Record& record, const RecordEntry& entry,
                                             const verified::BenchKeyPtr& key);

/// Entries that were changed, or stand where another one stood; signatures that are not valid.
[[nodiscard]] std::vector<Finding> judge_record(const Record& record);

}  // namespace wexlo
