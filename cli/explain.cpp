#include <fmt/format.h>

#include <algorithm>

#include "base/error_table.hpp"
#include "base/finding.hpp"
#include "commands.hpp"
#include "options.hpp"
#include "reply.hpp"
#include "text/fill.hpp"
#include "text/nearest.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

struct Entry {
  std::string title, level;
  std::string_view says;  ///< what the sentence after it is
  std::string_view about, why, to_do;
};

std::string entry_text(const Entry& entry, const Paint& paint) {
  std::string out = paint.heading(entry.title) + "\n";
  const auto line = [&](std::string_view name, std::string_view text) {
    if (!text.empty())
      out += filled(text, page_width(paint), std::string(16, ' '), fmt::format("  {:<14}", name));
  };
  line("kind", entry.level);
  line(entry.says, entry.about);
  line("why", entry.why);
  line("what to do", entry.to_do);
  return out;
}

Json entry_json(const Entry& entry) {
  return {{"code", entry.title},
          {"says", entry.says},
          {"kind", entry.level},
          {"about", entry.about},
          {"why", entry.why.empty() ? Json() : Json(entry.why)},
          {"to_do", entry.to_do.empty() ? Json() : Json(entry.to_do)}};
}

Entry entry_of(const FindingKind& kind) {
  std::string level(level_name(kind.level));
  if (kind.locked_only) level += ", of a locked phone alone";
  return {std::string(kind.name) + (kind.named ? "-NAME" : ""),
          fmt::format("finding, usually a {}", level),
          kind.area == FindingArea::Start ? "has to hold" : "meaning",
          kind.about,
          why_of(kind.code),
          kind.to_do};
}

Entry entry_of(const ErrorKind& kind) {
  return {std::string(kind.name),
          fmt::format("error, exit code {}", int(exit_code(kind.code))),
          "meaning",
          kind.about,
          kind.why,
          kind.to_do};
}

std::vector<Entry> entries_of(const std::string& code) {
  std::vector<Entry> out;
  for (const FindingKind* kind : find_kinds(code))
    out.push_back(entry_of(*kind));
  if (const ErrorKind* kind = find_error(code)) out.push_back(entry_of(*kind));
  return out;
}

std::vector<std::string> all_codes() {
  std::vector<std::string> out;
  for (const FindingKind& kind : finding_kinds())
    out.emplace_back(kind.name);
  for (const ErrorKind& kind : error_kinds())
    out.emplace_back(kind.name);
  return out;
}

Reply list_codes(const Session& session) {
  Reply reply;
  reply.result["codes"] = Json::array();
  const auto part = [&](std::string_view title, const std::vector<Entry>& entries) {
    Table table({"code", "what it means"});
    for (const Entry& one : entries) {
      reply.result["codes"].push_back(entry_json(one));
      table.row({one.title, std::string(one.about)});
    }
    reply.text += session.paint.heading(title) + "\n" + table.text(session.paint) + "\n";
  };
  std::vector<Entry> findings, errors;
  for (const FindingKind& kind : finding_kinds())
    findings.push_back(entry_of(kind));
  for (const ErrorKind& kind : error_kinds())
    errors.push_back(entry_of(kind));
  part("Findings", findings);
  part("Errors", errors);
  reply.text += "wexlo explain CODE tells what to do.\n";
  return reply;
}

Result<Reply> run_explain(std::string code, const Session& session) {
  if (code.empty()) return list_codes(session);
  // As it stands in a message: in square brackets.
  if (code.starts_with('[') && code.ends_with(']')) code = code.substr(1, code.size() - 2);
  const std::vector<Entry> entries = entries_of(lower_case(code));
  if (entries.empty())
    return fail({.code = ErrorCode::Usage,
                 .message = fmt::format("there is no code \"{}\"", code),
                 .hint = did_you_mean(code, all_codes()) + "wexlo explain lists all codes."});
  Reply reply;
  reply.result["codes"] = Json::array();
  for (const Entry& one : entries) {
    reply.result["codes"].push_back(entry_json(one));
    reply.text += (reply.text.empty() ? "" : "\n") + entry_text(one, session.paint);
  }
  return reply;
}

}  // namespace

void add_explain(Commands& commands, Session& session, int& exit_code) {
  auto code = std::make_shared<std::string>();
  Command(commands, "explain")
      .operand("CODE", *code, "A code out of a message; none: all codes", Need::Optional)
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "explain", run_explain(*code, session));
      });
}

}  // namespace wexlo::cli
