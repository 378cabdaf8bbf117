#include "job/batch.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "commands.hpp"
#include "edits.hpp"
#include "options.hpp"
#include "reply.hpp"
#include "settings.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

struct BatchArguments {
  std::string tray;
  bool no_cache = false, dry_run = false, force = false, allow_programs = false;
};

std::string file_name(const std::string& path) {
  return std::filesystem::path(path).filename().string();
}

Json rows_json(const std::vector<TrayRow>& rows) {
  Json out = Json::array();
  for (const TrayRow& row : rows) {
    const bool made = row.outcome == TrayOutcome::Made;
    out.push_back({{"firmware", row.job.wish.firmware},
                   {"recipes", Json(row.job.wish.recipes)},
                   {"sheet", row.job.wish.sheet.empty() ? Json() : Json(row.job.wish.sheet)},
                   {"kit", made ? Json(row.job.kit) : Json()},
                   {"outcome", outcome_word(row.outcome)},
                   {"device", row.device},
                   {"build", row.build},
                   {"target", row.target},
                   {"problems", Json(row.codes)},
                   {"why", row.why.empty() ? Json() : Json(row.why)}});
  }
  return out;
}

std::string text_of(const Session& session, const BatchArguments& options,
                    const std::vector<TrayRow>& rows) {
  const Paint& paint = session.paint;
  Table table({"#", "firmware", "phone", "kit", "outcome"});
  std::string reasons;
  std::size_t made = 0, passed = 0, number = 0;
  for (const TrayRow& row : rows) {
    // A firmware that is for another phone of the tray is not worth a line.
    if (row.outcome == TrayOutcome::Passed && !session.globals.verbose) {
      ++passed;
      continue;
    }
    ++number;
    std::string outcome(outcome_word(row.outcome));
    if (row.outcome == TrayOutcome::Made || row.outcome == TrayOutcome::Possible) {
      outcome = paint.good(outcome);
      ++made;
    } else if (row.outcome != TrayOutcome::Passed) {
      outcome = paint.bad(outcome);
      reasons += fmt::format("  {}: {}\n", number, printable(row.why));
    }
    table.row({fmt::format("{}", number), printable(file_name(row.job.wish.firmware)),
               printable(row.job.wish.sheet.empty() ? "-" : file_name(row.job.wish.sheet)),
               row.outcome == TrayOutcome::Made ? printable(row.job.kit) : "-", outcome});
  }
  std::string out =
      paint.heading(fmt::format("{}: {} of {} kits {}", printable(options.tray), made,
                                rows.size() - passed, options.dry_run ? "could be made" : "made")) +
      "\n" + table.text(paint) + reasons;
  if (passed > 0)
    out += fmt::format("  {} pairs of firmware and phone were passed over: not for each other\n",
                       passed);
  return out;
}

/// The tray as a whole fails as its first job that did; what a person has to look at comes second.
std::optional<Error> refusal(const BatchArguments& options, const std::vector<TrayRow>& rows) {
  const auto failed = std::ranges::find(rows, TrayOutcome::Failed, &TrayRow::outcome);
  const auto refused = std::ranges::find(rows, TrayOutcome::Refused, &TrayRow::outcome);
  if (failed == rows.end() && refused == rows.end()) return std::nullopt;
  const auto missing = std::ranges::count_if(rows, [](const TrayRow& row) {
    return row.outcome == TrayOutcome::Failed || row.outcome == TrayOutcome::Refused;
  });
  return Error{.code = failed == rows.end() ? ErrorCode::DoesNotFit : failed->error->code,
               .message = fmt::format("{} kit{} of the tray {} not made", missing,
                                      missing == 1 ? "" : "s", missing == 1 ? "was" : "were"),
               .file = options.tray,
               .found = failed == rows.end() ? refused->why : failed->why,
               .hint = "The others are there. wexlo prepare with one job's options shows more."};
}

Result<Reply> run_batch(const BatchArguments& options, const Session& session) {
  WEXLO_TRY(auto jobs, read_tray(options.tray));
  for (TrayJob& job : jobs) {
    job.wish.technician = session.settings.technician;
    job.wish.allow_programs = options.allow_programs;
  }
  TrayOptions tray{.dry_run = options.dry_run};
  if (options.force) tray.overwrite = Overwrite::Replace;
  if (const auto folder = cache_folder();
      folder && !options.no_cache && session.settings.cache_bound > 0)
    tray.cache = std::make_shared<ImageCache>(*folder, session.settings.cache_bound);
  WEXLO_TRY(const auto rows, run_tray(jobs, tray, session.context));
  Reply reply;
  reply.result = {{"jobs", rows_json(rows)},
                  {"cache_hits", tray.cache ? Json(tray.cache->hits()) : Json()}};
  for (const TrayRow& row : rows)
    for (const Finding& one : row.findings)
      if (one.level != Level::Note)
        reply.findings.push_back(
            {one.level, one.id, one.message,
             file_name(row.job.wish.sheet.empty() ? row.job.wish.firmware : row.job.wish.sheet) +
                 (one.where.empty() ? "" : " " + one.where)});
  reply.text = text_of(session, options, rows);
  reply.refusal = refusal(options, rows);
  return reply;
}

}  // namespace

void add_batch(Commands& commands, Session& session, int& exit_code) {
  auto options = std::make_shared<BatchArguments>();
  Command(commands, "batch")
      .operand("JOBS.toml", options->tray, "The tray's file (TOML)")
      .flag("--no-cache", options->no_cache, "Keep no images for the next time, and use none")
      .flag("--allow-programs", options->allow_programs, kAllowPrograms)
      .flag("--dry-run", options->dry_run, "Everything but writing the kits")
      .flag("--force", options->force, "Replace kits that are there already")
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "batch", run_batch(*options, session));
      });
}

}  // namespace wexlo::cli
