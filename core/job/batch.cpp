#include "job/batch.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <atomic>

#include "base/contains.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

/// Why a firmware is not for a phone, told from package and sheet alone; empty: it is.
Result<std::string> unfit(const TrayJob& job, const Context& context) {
  WEXLO_TRY(const Sheet sheet, read_sheet(job.wish.sheet));
  WEXLO_TRY(const FirmwarePtr firmware, open_firmware(job.wish.firmware, {.context = context}));
  const FitFacts facts{.device = firmware->build.device,
                       .build = firmware->build.fingerprint,
                       .incremental = firmware->build.incremental,
                       .patch_level = firmware->build.patch_level,
                       .region = firmware->build.region,
                       .sdk = firmware->build.sdk_level,
                       .demands = {},
                       .needs = {},
                       .architecture = {},
                       .rollback = {},
                       .chain = {},
                       .images = {},
                       .given = {}};
  for (const FitRow& row : fit(facts, sheet, job.wish.accept)) {
    const bool counts = row.id.code == FindingCode::FitDevice ||
                        row.id.code == FindingCode::FitBuild ||
                        row.id.code == FindingCode::FitRegion;
    if (counts && stops(row))
      return fmt::format("{} is {} here, {} on the phone", row.what, row.firmware, row.phone);
  }
  return std::string();
}

class Tray {
 public:
  Tray(const std::vector<TrayJob>& jobs, const TrayOptions& options, const Context& context)
      : options_(options), context_(context), rows_(jobs.size()) {
    for (std::size_t i = 0; i < jobs.size(); ++i)
      rows_[i].job = jobs[i];
  }

  Result<std::vector<TrayRow>> run() {
    const unsigned at_once = std::clamp(options_.at_once, 1u, std::max(1u, context_.jobs));
    Context outer = context_;
    outer.jobs = at_once;
    outer.progress = {};
    outer.steps = {};
    inner_ = outer;
    inner_.jobs = std::max(1u, context_.jobs / at_once);
    TaskGroup tasks(outer);
    for (TrayRow& row : rows_)
      tasks.submit(0, [this, &row] { return one(row); });
    WEXLO_CHECK(tasks.wait());
    leave_unpaired();
    return std::move(rows_);
  }

 private:
  /// Only being stopped ends the tray: what fails is told in its row.
  Status one(TrayRow& row) {
    WEXLO_CHECK(check_stop(context_));
    auto made = make(row);
    if (!made) {
      if (made.error().code == ErrorCode::Interrupted) return fail(std::move(made).error());
      row.outcome = TrayOutcome::Failed;
      row.why = describe(made.error());
      row.error = std::move(made).error();
    }
    if (context_.steps) {
      const std::lock_guard lock(mutex_);
      context_.steps(++done_, rows_.size());
    }
    return {};
  }

  Status make(TrayRow& row) {
    const TrayJob& job = row.job;
    // Each kit is a run of its own: what fits alone fits in the tray.
    Context inner = inner_;
    inner.held = std::make_shared<HeldBytes>(context_.held->bound());
    if (job.only_fitting) {
      WEXLO_TRY(row.why, unfit(job, inner));
      if (!row.why.empty()) return {};
    }
    WEXLO_TRY(PrepareOptions options, options_of(job.wish, row.findings, inner));
    options.cache = options_.cache;
    options.dry_run = options_.dry_run;
    options.overwrite = options_.overwrite;
    WEXLO_TRY(const Prepared done, prepare(job.wish.firmware, options, job.kit, inner));
    row.device = done.kit.build.device;
    row.build = done.kit.build.fingerprint;
    row.target = done.kit.target.partition;
    std::ranges::copy(done.kit.findings, std::back_inserter(row.findings));
    row.codes = stopping(done);
    row.outcome = done.stopped       ? TrayOutcome::Refused
                  : options_.dry_run ? TrayOutcome::Possible
                                     : TrayOutcome::Made;
    if (done.stopped) row.why = fmt::format("{}", fmt::join(row.codes, ", "));
    return {};
  }

  /// A phone that no firmware of the tray is for is told, not passed over in silence.
  void leave_unpaired() {
    for (TrayRow& row : rows_) {
      if (row.outcome != TrayOutcome::Passed) continue;
      const bool other = std::ranges::any_of(rows_, [&](const TrayRow& one) {
        return one.job.wish.sheet == row.job.wish.sheet && one.job.line == row.job.line &&
               one.outcome != TrayOutcome::Passed;
      });
      if (other) continue;
      row.outcome = TrayOutcome::Refused;
      row.codes = {FindingId(FindingCode::NoFirmware).text()};
      row.why = "no firmware of the tray fits this phone: " + row.why;
    }
  }

  const TrayOptions& options_;
  const Context& context_;
  Context inner_;
  std::vector<TrayRow> rows_;
  std::mutex mutex_;
  std::uint64_t done_ = 0;
};

}  // namespace

std::string_view outcome_word(TrayOutcome outcome) {
  switch (outcome) {
    case TrayOutcome::Made: return "made";
    case TrayOutcome::Possible: return "would be made";
    case TrayOutcome::Refused: return "refused";
    case TrayOutcome::Failed: return "failed";
    case TrayOutcome::Passed: return "not for it";
  }
  return {};
}

Result<std::vector<TrayRow>> run_tray(const std::vector<TrayJob>& jobs, const TrayOptions& options,
                                      const Context& context) {
  return Tray(jobs, options, context).run();
}

}  // namespace wexlo
