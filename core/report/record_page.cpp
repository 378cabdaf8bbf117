#include "report/record_page.hpp"

#include <fmt/format.h>

#include "report/document.hpp"

namespace wexlo {
namespace {

using report::Tone;

Tone tone_of(Took took) {
  switch (took) {
    case Took::Yes: return Tone::Good;
    case Took::InPart:
    case Took::CannotTell: return Tone::Warning;
    case Took::No: return Tone::Bad;
  }
  return Tone::Plain;
}

Tone tone_of(RowVerdict verdict) {
  switch (verdict) {
    case RowVerdict::Holds: return Tone::Good;
    case RowVerdict::Differs: return Tone::Bad;
    case RowVerdict::NotSeen: return Tone::Faint;
  }
  return Tone::Plain;
}

void add_entry(report::Document& document, const RecordedEntry& recorded, std::size_t number) {
  const RecordEntry& one = recorded.entry;
  document.add(report::Heading{fmt::format("{}: {}", one.time, took_word(one.verdict)),
                               fmt::format("record-{}", number), 3});
  document.add(report::Text{one.reason, tone_of(one.verdict)});
  std::string who =
      one.serial.empty() ? one.device : fmt::format("{}, serial {}", one.device, one.serial);
  if (!one.technician.empty()) who += ", looked at by " + one.technician;
  if (!one.flashed.empty())
    who += fmt::format(", flashed {}{}", one.flashed,
                       one.direction == "back" ? " (the way back)" : "");
  document.add(report::Text{who, Tone::Faint});
  report::Table rows{{"what", "", "planned", "seen", "where"}, {}};
  for (const RecordRow& row : one.rows)
    rows.rows.push_back({{row.what},
                         {std::string(row_verdict_word(row.verdict)), tone_of(row.verdict)},
                         {row.planned},
                         {row.observed == row.planned ? "the same" : row.observed},
                         {row.evidence, Tone::Faint}});
  document.add(std::move(rows));
  if (!one.steps.empty()) {
    report::Table steps{{"step", "outcome", ""}, {}};
    for (const RecordStep& step : one.steps)
      steps.rows.push_back({{step.id}, {step.outcome}, {step.detail, Tone::Faint}});
    document.add(std::move(steps));
  }
  document.add(
      report::Text{fmt::format("Entry {}, SHA-256 {}{}", number, recorded.sha256,
                               recorded.key.empty() ? "" : ", signed with the key " + recorded.key),
                   Tone::Faint});
}

}  // namespace

std::string record_page(const Record& record) {
  report::Document document;
  document.add(report::Heading{"The record", "record"});
  for (std::size_t i = record.entries.size(); i-- > 0;)
    add_entry(document, record.entries[i], i + 1);
  return report::blocks_html(document);
}

Json rows_json(const std::vector<RecordRow>& rows) {
  Json out = Json::array();
  for (const RecordRow& row : rows)
    out.push_back({{"what", row.what},
                   {"planned", row.planned},
                   {"observed", row.observed},
                   {"verdict", row_verdict_word(row.verdict)},
                   {"evidence", row.evidence}});
  return out;
}

}  // namespace wexlo
