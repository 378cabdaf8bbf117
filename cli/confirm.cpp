#include "job/confirm.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "commands.hpp"
#include "observed_text.hpp"
#include "options.hpp"
#include "reply.hpp"
#include "report/record_page.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

struct ConfirmArguments {
  std::string kit, list, log, sign;
  std::vector<std::string> observed, phones;
  bool no_record = false, csv = false;
};

std::string took_text(const Paint& paint, Took took) {
  const std::string word(took_word(took));
  switch (took) {
    case Took::Yes: return paint.good(word);
    case Took::No: return paint.bad(word);
    case Took::InPart:
    case Took::CannotTell: break;
  }
  return paint.warning(word);
}

std::string verdict_text(const Paint& paint, RowVerdict verdict) {
  const std::string word(row_verdict_word(verdict));
  switch (verdict) {
    case RowVerdict::Holds: return paint.good(word);
    case RowVerdict::Differs: return paint.bad(word);
    case RowVerdict::NotSeen: break;
  }
  return paint.faint(word);
}

std::string rows_text(const Session& session, const Confirmed& confirmed) {
  Table table({"what", "planned", "seen", "", "where"});
  for (const RecordRow& row : confirmed.rows)
    table.row({printable(row.what), printable(row.planned),
               row.observed == row.planned ? "the same" : printable(row.observed),
               verdict_text(session.paint, row.verdict),
               session.paint.faint(printable(row.evidence))});
  return table.text(session.paint);
}

/// Each question once: several rows may wait for the same answer.
std::string ask_text(const Session& session, const Confirmed& confirmed) {
  if (confirmed.ask.empty()) return {};
  std::string out =
      "\n" + session.paint.heading("What to ask the phone next, in a shell on it") + "\n";
  std::vector<std::string> asked;
  for (const Question& one : confirmed.ask) {
    if (std::ranges::find(asked, one.ask) != asked.end()) continue;
    asked.push_back(one.ask);
    out += fmt::format("  {}\n", session.paint.good(printable(one.ask)));
  }
  return out + "  Save what it answers, with the commands, and give the file too.\n";
}

Json ask_json(const Confirmed& confirmed) {
  Json out = Json::array();
  for (const Question& one : confirmed.ask)
    out.push_back({{"what", one.what}, {"ask", one.ask}});
  return out;
}

Result<Reply> run_confirm(const ConfirmArguments& options, const Session& session) {
  ConfirmOptions wish{.observed = {},
                      .log = options.log,
                      .record = !options.no_record,
                      .technician = session.settings.technician,
                      .key = nullptr};
  if (options.observed.empty() && options.phones.empty())
    return fail(
        {.code = ErrorCode::Usage,
         .message = "confirm needs what was seen of the phone",
         .hint = "Give files with what the phone shows, - for standard input, or --phone."});
  const std::string key = options.sign.empty() ? session.settings.bench_key.string() : options.sign;
  if (!key.empty() && !options.no_record) {
    WEXLO_TRY(wish.key, verified::load_bench_key(key));
  }
  WEXLO_TRY(const Kit kit, Kit::open(options.kit));
  WEXLO_TRY(wish.observed, observe(options.observed, options.phones, session.context));
  WEXLO_TRY(const ConfirmedKit done, confirm_kit(kit, wish, session.context));
  const Confirmed& confirmed = done.confirmed;
  Reply reply;
  reply.findings = confirmed.findings;
  reply.result = {{"verdict", took_word(confirmed.verdict)},
                  {"reason", confirmed.reason},
                  {"rows", rows_json(confirmed.rows)},
                  {"ask", ask_json(confirmed)},
                  {"observed", observed_json(done.observed)},
                  {"record", done.recorded ? Json(done.record_sha256) : Json()}};
  reply.text = session.paint.heading("What was given") + "\n" +
               observed_text(session, done.observed) + "\n" +
               session.paint.heading("The phone, held against the kit") + "\n" +
               rows_text(session, confirmed);
  reply.ending = ask_text(session, confirmed) +
                 fmt::format("\n  {}: {}\n", took_text(session.paint, confirmed.verdict),
                             printable(confirmed.reason));
  if (done.recorded)
    reply.ending += fmt::format("  kept in {}/record.toml{}\n", printable(options.kit),
                                wish.key ? ", signed" : "");
  reply.reasons = reply.ending;
  reply.well = confirmed.verdict == Took::Yes;
  return reply;
}

/// A field of a table that other programs read: RFC 4180, but for the line ends.
std::string csv_field(const std::string& text) {
  if (text.find_first_of("\",\r\n") == std::string::npos) return text;
  std::string out = "\"";
  for (const char c : text)
    out += c == '"' ? std::string("\"\"") : std::string(1, c);
  return out + "\"";
}

constexpr std::string_view kColumns[] = {"time",       "verdict", "serial",  "device",
                                         "build",      "kit",     "flashed", "done",
                                         "technician", "signed",  "reason"};

std::vector<std::string> fields_of(const ListedEntry& one) {
  const RecordedEntry& recorded = one.recorded;
  const RecordEntry& entry = recorded.entry;
  return {entry.time,       std::string(took_word(entry.verdict)),
          entry.serial,     entry.device,
          entry.build,      one.kit,
          entry.flashed,    one.done,
          entry.technician, recorded.key.empty() ? "no" : recorded.is_signed ? "yes" : "not valid",
          entry.reason};
}

Result<Reply> run_list(const ConfirmArguments& options, const Session& session) {
  WEXLO_TRY(const RecordList list, list_records(options.list, session.context));
  Reply reply;
  reply.findings = list.findings;
  Json entries = Json::array();
  std::string csv;
  for (const std::string_view column : kColumns)
    csv += fmt::format("{}{}", csv.empty() ? "" : ",", column);
  csv += "\n";
  Table table({"time", "phone", "done", "verdict", "kit", "by"});
  for (const ListedEntry& one : list.entries) {
    const std::vector<std::string> fields = fields_of(one);
    Json row = Json::object();
    std::string line;
    for (std::size_t i = 0; i < fields.size(); ++i) {
      row[std::string(kColumns[i])] = fields[i];
      line += (i == 0 ? "" : ",") + csv_field(fields[i]);
    }
    entries.push_back(std::move(row));
    csv += line + "\n";
    const RecordEntry& entry = one.recorded.entry;
    table.row(
        {entry.time, printable(entry.device + (entry.serial.empty() ? "" : " " + entry.serial)),
         one.done.empty() ? "not known" : printable(one.done),
         took_text(session.paint, entry.verdict), printable(one.kit), printable(entry.technician)});
  }
  reply.result = {{"entries", std::move(entries)}, {"kits", list.kits}};
  if (options.csv) {
    reply.text = csv;
    reply.as_it_is = true;
  } else {
    reply.text =
        list.entries.empty()
            ? std::string("No kit there has a record.\n")
            : session.paint.heading(fmt::format("{} in {}", counted(list.entries.size(), "look"),
                                                counted(list.kits, "kit"))) +
                  "\n" + table.text(session.paint);
  }
  reply.well = std::ranges::none_of(list.findings,
                                    [](const Finding& one) { return one.level == Level::Problem; });
  return reply;
}

Result<Reply> run(const ConfirmArguments& options, const Session& session) {
  if (!options.list.empty()) {
    if (!options.kit.empty() || !options.phones.empty())
      return fail({.code = ErrorCode::Usage,
                   .message = "--list lists records: it takes no kit and asks no phone"});
    return run_list(options, session);
  }
  if (options.csv) return fail({.code = ErrorCode::Usage, .message = "--csv goes with --list DIR"});
  if (options.kit.empty())
    return fail({.code = ErrorCode::Usage,
                 .message = "confirm needs a kit",
                 .hint = "wexlo confirm KIT OBSERVED..., or wexlo confirm --list DIR"});
  return run_confirm(options, session);
}

}  // namespace

void add_confirm(Commands& commands, Session& session, int& exit_code) {
  auto options = std::make_shared<ConfirmArguments>();
  Command(commands, "confirm")
      .operand("KIT", options->kit, "The kit that was flashed", Need::Optional)
      .operand("OBSERVED", options->observed,
               "What the phone shows, saved or pasted: properties, logs, answers; - for standard "
               "input",
               Need::Optional)
      .option("--phone", "ADDRESS", options->phones,
              "Ask the phone at its bootloader, too: fastboot+usb://SERIAL, "
              "fastboot+tcp://HOST:PORT or fastboot+udp://HOST:PORT")
      .gathers()
      .option("--log", "FILE", options->log, "Another flash log than the kit's own")
      .flag("--no-record", options->no_record, "Look, and keep nothing in the kit's record")
      .option("--sign", "KEY", options->sign,
              "Sign the entry with the bench's key (Ed25519, PEM); the setting bench_key names it "
              "for good")
      .option("--list", "DIR", options->list, "List the records of all kits below a folder")
      .flag("--csv", options->csv, "With --list: as a table for other programs")
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "confirm", run(*options, session));
      });
}

}  // namespace wexlo::cli
