#include "job/confirm.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/contains.hpp"
#include "base/digest.hpp"
#include "base/error_kinds.hpp"
#include "base/output.hpp"
#include "base/version.hpp"
#include "image/boot.hpp"
#include "image/partitions.hpp"
#include "image/words.hpp"
#include "judge/phone_set.hpp"
#include "kit/folder/kit_folder.hpp"
#include "kit/folder/record_part.hpp"
#include "ramdisk/mount_tables.hpp"
#include "report/record_page.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

constexpr std::uint64_t kMaxReport = 64u << 20;

/// What the kit's images say, each beside its stock twin.
class SignsReader {
 public:
  SignsReader(const Kit& kit, const Context& context) : kit_(kit), context_(context) {}

  Result<ImageSigns> run() {
    for (const KitImage& image : kit_.manifest().images) {
      if (image.made != Made::Patched || image.flash.file.empty()) continue;
      if (!is_boot_class(without_slot(image.partition))) continue;
      WEXLO_TRY(const auto patched, read(image.partition, image.flash.file));
      if (!patched || patched->image() == nullptr) continue;
      take(*patched);
      if (image.stock_files.file.empty()) continue;
      WEXLO_TRY(const auto stock, read(image.partition, image.stock_files.file));
      if (stock && stock->image() != nullptr) compare(*patched, *stock);
    }
    return std::move(out_);
  }

 private:
  /// nullopt: the file is gone, or does not read; `check` tells of that.
  Result<std::optional<Subject>> read(const std::string& partition, const std::string& file) {
    const auto source = kit_.file(file);
    if (!source) return std::nullopt;
    PhoneSet set;
    set.add(partition, *source);
    auto subject = read_subject(set, set.members().front(), "", context_);
    if (!subject && is_of_this_run(subject.error().code)) return fail(subject.error());
    if (!subject) return std::nullopt;
    return std::move(*subject);
  }

  void take(const Subject& one) {
    if (!permissive_in(*one.image(), one.reading).empty()) out_.permissive = true;
    for (const ReadRamdisk& ramdisk : one.reading.ramdisks)
      if (ramdisk.ramdisk)
        for (const FstabRow& row : mount_rows(*ramdisk.ramdisk))
          if (row.mount_point == "/data") out_.encrypted = row.encrypted;
  }

  void compare(const Subject& patched, const Subject& stock) {
    const std::vector<std::string> before = words::split(boot::cmdline(*stock.image()));
    for (std::string& word : words::split(boot::cmdline(*patched.image())))
      if (!contains(before, word)) out_.words.push_back(std::move(word));
    const auto release = [](const Subject& one) {
      return one.reading.kernel ? one.reading.kernel->release : std::string();
    };
    if (release(stock).empty()) return;
    out_.stock_kernel = release(stock);
    if (release(patched) != release(stock)) out_.kernel = release(patched);
  }

  const Kit& kit_;
  const Context& context_;
  ImageSigns out_;
};

/// Texts that the kit's recipes leave in a log. A kit that does not say its recipes has none.
std::vector<std::string> shows_of(const Kit& kit) {
  std::vector<std::string> out;
  const auto recipes = kit.recipes({});
  if (!recipes) return out;
  for (const Recipe& one : *recipes)
    for (const std::string& text : one.shows)
      if (!contains(out, text)) out.push_back(text);
  return out;
}

std::string now_text(const ConfirmOptions& options) {
  return utc_text(options.clock());
}

RecordEntry entry_of(const Kit& kit, const ConfirmedKit& done, const ConfirmOptions& options,
                     const std::vector<LoggedRun>& runs, std::string kit_sha256) {
  const Confirmed& confirmed = done.confirmed;
  RecordEntry out{.time = now_text(options),
                  .technician = options.technician,
                  .wexlo = std::string(version()),
                  .device = kit.manifest().device,
                  .build = kit.manifest().build,
                  .kit_sha256 = std::move(kit_sha256),
                  .verdict = confirmed.verdict,
                  .reason = confirmed.reason,
                  .rows = confirmed.rows};
  if (const Seen* serial = done.observed.find(Fact::Serial)) out.serial = serial->value;
  if (const Seen* product = done.observed.find(Fact::Product)) out.product = product->value;
  if (!runs.empty()) {
    const LoggedRun& run = runs.back();
    if (out.serial.empty()) out.serial = run.serial;
    if (out.product.empty()) out.product = run.product;
    out.flashed = run.time;
    out.direction = direction_word(run.direction);
    for (const PlayedStep& step : run.steps)
      out.steps.push_back({step.id, std::string(outcome_word(step.outcome)), step.detail});
  }
  for (const auto& [fact, all] : done.observed.facts)
    for (const Seen& one : all)
      out.facts.push_back(fmt::format("{} = {} ({})", fact_word(fact), one.value, one.at.text()));
  return out;
}

Result<Expected> expectation_of(const Kit& kit, const std::vector<LoggedRun>& runs,
                                const Context& context) {
  WEXLO_TRY(const Plan plan, kit.plan());
  WEXLO_TRY(ImageSigns signs, SignsReader(kit, context).run());
  return expected_of({.manifest = kit.manifest(),
                      .plan = plan,
                      .runs = runs,
                      .shows = shows_of(kit),
                      .signs = std::move(signs)});
}

/// The record first: the page in the report is made of it.
Status keep(const Kit& kit, const ConfirmOptions& options, const std::vector<LoggedRun>& runs,
            ConfirmedKit& out) {
  WEXLO_TRY(const Record before, read_record(kit.folder()));
  for (const Finding& one : judge_record(before))
    if (one.level == Level::Problem)
      return fail({.code = ErrorCode::DigestMismatch,
                   .message = "the record was changed: nothing is put behind it",
                   .file = (kit.folder() / kRecordFile).string(),
                   .expected = "entries as they were written",
                   .found = fmt::format("{} ({})", one.message, one.where),
                   .hint = "Take a copy of it that is whole, or move it away; --no-record looks "
                           "without keeping it."});
  WEXLO_TRY(const SourcePtr manifest, kit.file(std::string(kKitManifest)));
  WEXLO_TRY(const Blob json, read_all(*manifest, kMaxReport));
  const RecordEntry entry = entry_of(kit, out, options, runs, sha256_hex(json.view()));
  WEXLO_TRY(const std::string text, with_entry(before, entry, options.key));
  WEXLO_TRY(const Record after, parse_record(text, std::string(kRecordFile)));
  WEXLO_CHECK(write_file(kit.folder() / kRecordFile, as_view(text), Overwrite::Replace));
  out.recorded = true;
  out.record_sha256 = after.entries.back().sha256;
  const auto report = kit.file(std::string(kReportFile));
  if (!report) return {};  // `check` tells that it is gone
  WEXLO_TRY(const Blob html, read_all(**report, kMaxReport));
  const std::string with = with_page(as_text(html.view()), record_page(after), out.record_sha256);
  return write_file(kit.folder() / kReportFile, as_view(with), Overwrite::Replace);
}

}  // namespace

Result<std::vector<LoggedRun>> runs_of_kit(const Kit& kit, const fs::path& log,
                                           const std::string& serial) {
  WEXLO_TRY(auto all, read_flash_log(log.empty() ? kit.folder() / kFlashLog : log));
  auto runs = runs_of_plan(std::move(all), kit.manifest().plan.sha256);
  if (!serial.empty() && contains(runs, serial, &LoggedRun::serial))
    std::erase_if(runs, [&](const LoggedRun& one) { return one.serial != serial; });
  return runs;
}

Result<Expected> expected_of_kit(const Kit& kit, const fs::path& log, const std::string& serial,
                                 const Context& context) {
  WEXLO_TRY(const auto runs, runs_of_kit(kit, log, serial));
  return expectation_of(kit, runs, context);
}

Result<ConfirmedKit> confirm_kit(const Kit& kit, const ConfirmOptions& options,
                                 const Context& context) {
  ConfirmedKit out;
  out.observed = options.observed;
  const Seen* const serial = out.observed.find(Fact::Serial);
  WEXLO_TRY(const auto runs, runs_of_kit(kit, options.log, serial == nullptr ? "" : serial->value));
  WEXLO_TRY(out.expected, expectation_of(kit, runs, context));
  out.confirmed = confirm(out.expected, out.observed);
  if (out.observed.empty())
    out.confirmed.findings.push_back(usual_finding(
        FindingCode::NothingSeen, "No line of what was given says something of a phone."));
  else if (options.record)
    WEXLO_CHECK(keep(kit, options, runs, out));
  return out;
}

namespace {

/// What was done to the phone, in a few words.
std::string done_text(const RecordEntry& entry) {
  if (entry.steps.empty()) return {};
  const auto count = [&](StepOutcome outcome) {
    return std::ranges::count(entry.steps, outcome_word(outcome), &RecordStep::outcome);
  };
  const bool back = entry.direction == direction_word(Direction::Back);
  std::string out = fmt::format("{}, {}", back ? "the way back" : "the plan",
                                counted(entry.steps.size(), "step"));
  for (const StepOutcome outcome : {StepOutcome::Failed, StepOutcome::Unknown})
    if (const auto times = count(outcome); times > 0)
      out += fmt::format(", {} {}", times, outcome_word(outcome));
  return out;
}

}  // namespace

Result<RecordList> list_records(const fs::path& folder, const Context& context) {
  RecordList out;
  std::error_code error;
  std::vector<fs::path> kits;
  for (fs::recursive_directory_iterator at(folder, error), end; at != end && !error;
       at.increment(error)) {
    WEXLO_CHECK(check_stop(context));
    if (at->path().filename() == kRecordFile) kits.push_back(at->path().parent_path());
  }
  if (error) return fail(io_error(error.value(), "cannot read the folder", folder.string()));
  std::ranges::sort(kits);
  for (const fs::path& kit : kits) {
    const std::string name = kit.lexically_relative(folder).generic_string();
    auto record = read_record(kit);
    if (!record) {
      out.findings.push_back(usual_finding(
          FindingCode::RecordChanged,
          fmt::format("The record does not read: {}.", record.error().message), name));
      continue;
    }
    ++out.kits;
    for (Finding one : judge_record(*record)) {
      one.where = name + "/" + one.where;
      out.findings.push_back(std::move(one));
    }
    for (const RecordedEntry& one : record->entries)
      out.entries.push_back({name, one, done_text(one.entry)});
  }
  std::ranges::stable_sort(out.entries, {},
                           [](const ListedEntry& one) { return one.recorded.entry.time; });
  return out;
}

}  // namespace wexlo
