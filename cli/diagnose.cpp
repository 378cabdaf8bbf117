#include "job/diagnose.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "commands.hpp"
#include "edits.hpp"
#include "observed_text.hpp"
#include "options.hpp"
#include "reply.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

/// Of more causes only --verbose tells: what fits a symptom alone is no news.
constexpr std::size_t kShown = 4;

struct DiagnoseArguments {
  std::string path, sheet, symptom, firmware, log;
  std::vector<std::string> observed, phones;
};

Json evidence_json(const std::vector<Evidence>& all) {
  Json out = Json::array();
  for (const Evidence& one : all)
    out.push_back({{"text", one.text}, {"where", one.where}, {"weight", one.weight}});
  return out;
}

Json causes_json(const DiagnosedPhone& done, const DiagnoseArguments& options) {
  Json out = Json::array();
  std::size_t rank = 0;
  for (const RankedCause& one : done.diagnosis.causes) {
    const CauseRow& row = row_of(one.cause);
    out.push_back(
        {{"code", row.code},
         {"rank", ++rank},
         {"weight", one.rank},
         {"supported", one.is_supported()},
         {"about", row.about},
         {"evidence", evidence_json(one.evidence)},
         {"against", evidence_json(one.against)},
         {"look", row.look},
         {"way_back", way_back_text(one.cause, done.kit ? options.path : "", options.firmware)},
         {"keeps_data", row_of(row.way).keeps_data}});
  }
  return out;
}

std::string evidence_text(const Session& session, std::string_view title,
                          const std::vector<Evidence>& all) {
  std::string out;
  for (const Evidence& one : all) {
    std::string weight;
    if (session.globals.verbose) weight = fmt::format("{:+} ", one.weight);
    out += fmt::format(
        "      {:<9} {}{}{}\n", out.empty() ? title : "", weight, printable(one.text),
        one.where.empty() ? "" : session.paint.faint(fmt::format(" ({})", printable(one.where))));
  }
  return out;
}

std::string cause_text(const Session& session, const DiagnosedPhone& done, std::size_t index,
                       const DiagnoseArguments& options) {
  const RankedCause& one = done.diagnosis.causes[index];
  const CauseRow& row = row_of(one.cause);
  std::string out = fmt::format("  {:>2}  {}", index + 1, session.paint.heading(row.code));
  if (session.globals.verbose) out += fmt::format("  {}", one.rank);
  out += fmt::format("\n      {}\n", row.about);
  out += evidence_text(session, "for", one.evidence);
  out += evidence_text(session, "against", one.against);
  out += fmt::format("      {:<9} {}\n", "look", row.look);
  out += fmt::format("      {:<9} {}\n", "way back",
                     session.paint.good(printable(way_back_text(
                         one.cause, done.kit ? options.path : "", options.firmware))));
  return out;
}

/// Causes that something speaks for, then those that only go with what somebody sees.
std::string causes_text(const Session& session, const DiagnosedPhone& done,
                        const DiagnoseArguments& options) {
  const auto& causes = done.diagnosis.causes;
  std::string out;
  std::vector<std::string_view> fitting;
  std::size_t shown = 0, left = 0;
  for (std::size_t i = 0; i < causes.size(); ++i) {
    if (!causes[i].is_supported() && !session.globals.verbose) {
      fitting.push_back(row_of(causes[i].cause).code);
    } else if (shown == kShown && !session.globals.verbose) {
      ++left;
    } else {
      out += (shown == 0 ? "" : "\n") + cause_text(session, done, i, options);
      ++shown;
    }
  }
  if (shown == 0)
    out +=
        "  Nothing that was given speaks for a cause. More helps: a log of the last start, the "
        "phone's sheet, what its bootloader says, --against its firmware.\n";
  if (left > 0) out += fmt::format("\n  {} more have less for them: --verbose shows them\n", left);
  if (!fitting.empty())
    out += fmt::format("\n  Only the symptom fits: {}. wexlo diagnose --verbose says more.\n",
                       fmt::join(fitting, ", "));
  return out;
}

Result<Reply> run_diagnose(const DiagnoseArguments& options, const Session& session) {
  DiagnoseOptions wish{.path = options.path,
                       .firmware = options.firmware,
                       .sheet = {},
                       .symptom = {},
                       .observed = {},
                       .log = options.log};
  if (!options.symptom.empty()) {
    WEXLO_TRY(wish.symptom, parse_symptom(options.symptom));
  }
  if (!options.sheet.empty()) {
    WEXLO_TRY(wish.sheet, read_sheet(sheet_file(options.sheet, session.settings)));
  }
  if (!options.observed.empty() || !options.phones.empty()) {
    WEXLO_TRY(wish.observed, observe(options.observed, options.phones, session.context));
  }
  WEXLO_TRY(const DiagnosedPhone done, diagnose_phone(wish, session.context));
  Reply reply;
  reply.findings = done.findings;
  reply.result = {{"kit", done.kit},
                  {"symptom", wish.symptom ? Json(symptom_word(*wish.symptom)) : Json()},
                  {"looked_at", done.looked_at},
                  {"stock", done.stock},
                  {"causes", causes_json(done, options)}};
  reply.result["observed"] = wish.observed ? observed_json(*wish.observed) : Json();
  reply.text = session.paint.heading("What was looked at") + "\n" +
               fmt::format("  images: {}\n", fmt::join(done.looked_at, ", ")) +
               fmt::format("  stock: {}\n", done.stock.empty()
                                                ? std::string("none: --against FIRMWARE has it")
                                                : fmt::format("{}", fmt::join(done.stock, ", ")));
  if (wish.symptom) reply.text += fmt::format("  symptom: {}\n", symptom_about(*wish.symptom));
  if (wish.observed) reply.text += observed_text(session, *wish.observed);
  reply.text +=
      "\n" + session.paint.heading("Likely causes") + "\n" + causes_text(session, done, options);
  reply.reasons = reply.text;
  reply.well = std::ranges::none_of(done.findings,
                                    [](const Finding& one) { return one.level == Level::Problem; });
  return reply;
}

std::string symptom_words() {
  std::string out;
  for (const SymptomRow& row : symptom_rows())
    out += fmt::format("{}{}", out.empty() ? "" : ", ", row.word);
  return out;
}

}  // namespace

void add_diagnose(Commands& commands, Session& session, int& exit_code) {
  auto options = std::make_shared<DiagnoseArguments>();
  Command(commands, "diagnose")
      .operand("KIT", options->path, "The kit that was flashed; or an image, or a folder of images")
      .operand("OBSERVED", options->observed,
               "What the phone shows, saved or pasted: a log of the last start, properties, the "
               "bootloader's variables; - for standard input",
               Need::Optional)
      .option("--symptom", "SYMPTOM", options->symptom,
              "What somebody sees of the phone: " + symptom_words())
      .option("--sheet", "SHEET", options->sheet, "What was known of the phone before")
      .option("--against", "FIRMWARE", options->firmware,
              "The stock firmware, for images that come without a kit, or that the kit lacks")
      .option("--phone", "ADDRESS", options->phones,
              "Ask the phone at its bootloader, too: fastboot+usb://SERIAL, "
              "fastboot+tcp://HOST:PORT or fastboot+udp://HOST:PORT")
      .gathers()
      .option("--log", "FILE", options->log, "Another flash log than the kit's own")
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "diagnose", run_diagnose(*options, session));
      });
}

}  // namespace wexlo::cli
