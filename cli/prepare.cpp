#include "job/prepare_wish.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "commands.hpp"
#include "edits.hpp"
#include "kit/plan/plan_text.hpp"
#include "options.hpp"
#include "reply.hpp"
#include "report/plan_json.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

struct PrepareArguments {
  std::string firmware, kit, like, slots, key, signer, sheet, base;
  std::vector<std::string> with, install, accept;
  RecipeOptions recipes;
  bool wipe = false, force = false, dry_run = false, stock = false, whole = false;
};

/// Two builds of one device are told by what stands behind the colon.
std::size_t shared_start(const std::string& one, const std::string& other) {
  const std::size_t colon = one.find(':');
  return colon != one.npos && other.compare(0, colon + 1, one, 0, colon + 1) == 0 ? colon + 1 : 0;
}

/// Fingerprints are long: parted where their words end.
std::vector<std::string> folded(std::string_view text) {
  constexpr std::size_t kWidth = 36;
  std::vector<std::string> out;
  while (text.size() > kWidth) {
    const std::size_t end = text.substr(0, kWidth).find_last_of("/: ,");
    const std::size_t count = end == text.npos || end == 0 ? kWidth : end + 1;
    out.emplace_back(text.substr(0, count));
    text.remove_prefix(count);
  }
  out.emplace_back(text);
  return out;
}

/// What the phone has beside what the firmware has.
std::string beside(const FitRow& row) {
  if (row.phone.empty()) return "unknown";
  if (row.firmware == row.phone) return "the same";
  const std::size_t same = shared_start(row.firmware, row.phone);
  return same > 0 ? "…" + printable(row.phone.substr(same)) : printable(row.phone);
}

std::string verdict_text(const Paint& paint, const FitRow& row) {
  const std::string word(verdict_name(row.verdict));
  if (row.verdict == FitVerdict::Fits) return paint.good(word);
  if (row.verdict == FitVerdict::Unknown) return paint.faint(word);
  if (row.accepted) return paint.warning("accepted");
  return row.level == Level::Problem ? paint.bad(word) : paint.warning(word);
}

/// A row each, and below them the reasons of what differs, with the codes for --accept.
std::string fit_text(const Session& session, const std::vector<FitRow>& rows) {
  if (rows.empty()) return {};
  const Paint& paint = session.paint;
  Table table({"verdict", "what", "firmware", "phone"});
  std::string reasons;
  for (const FitRow& row : rows) {
    const auto ours = folded(row.firmware.empty() ? "unknown" : printable(row.firmware)),
               theirs = folded(beside(row));
    for (std::size_t i = 0; i < std::max(ours.size(), theirs.size()); ++i)
      table.row({i == 0 ? verdict_text(paint, row) : "", i == 0 ? row.what : "",
                 i < ours.size() ? ours[i] : "", i < theirs.size() ? theirs[i] : ""});
    if (row.verdict == FitVerdict::Differs)
      reasons += fmt::format("  {}{}: {}\n", row.what,
                             row.level == Level::Problem ? " [" + row.id.text() + "]" : "",
                             printable(row.why));
  }
  return "\n" + paint.heading("Does it fit the phone?") + "\n" + table.text(paint) + reasons;
}

/// Why there is no kit, naming what --accept would have to name.
Error refusal(const PrepareArguments& options, const Prepared& done) {
  const auto codes = stopping(done);
  return {.code = ErrorCode::DoesNotFit,
          .message = "no kit was made because of problems",
          .file = options.firmware,
          .found = fmt::format("{}", fmt::join(codes, ", ")),
          .hint = fmt::format("Take the firmware that fits. What you know better is passed with "
                              "--accept, e.g. --accept {}.",
                              codes.empty() ? "CODE" : codes.front())};
}

Json image_json(const KitImage& image) {
  const auto file = [&](const KitContent& content) {
    return image.written && !content.file.empty() ? Json(content.file) : Json();
  };
  return {{"partition", image.partition},
          {"flashed", image.written},
          {"what", made_word(image.made)},
          {"logical", image.is_logical() ? Json(image.logical) : Json()},
          {"file", file(image.flash)},
          {"stock_file", file(image.stock_files)},
          {"size", image.size()},
          {"edits", edits_json(image.patched)},
          {"entries", image.patched.entries},
          {"ranges", ranges_json(image.patched.ranges)},
          {"way_back", way_back_json(image.patched.way_back)}};
}

std::string steps_text(const Session& session, const std::vector<Step>& steps) {
  Table table({">#", "do", "what and why"});
  for (std::size_t i = 0; i < steps.size(); ++i) {
    const Step& step = steps[i];
    const auto* expect = step.get<act::Expect>();
    table.row({fmt::format("{}", i + 1), std::string(act_word(step.act)),
               expect != nullptr ? fmt::format("{}. {}", expectation(*expect), step.about)
                                 : step.about + (step.risk.data_loss ? " (data is lost)" : "")});
  }
  return table.text(session.paint);
}

std::string counted(std::uint64_t count, std::string_view what) {
  return fmt::format("{} {}{}", count, what, count == 1 ? "" : "s");
}

/// An edit that was tried here and found its place in another image is no news here.
std::vector<EditReport> worth_showing(const KitDraft& kit, const KitImage& image) {
  std::vector<EditReport> out;
  for (std::size_t i = 0; i < image.patched.edits.size(); ++i) {
    const EditReport& edit = image.patched.edits[i];
    const bool elsewhere = std::ranges::any_of(kit.images, [&](const KitImage& other) {
      // One that was given, or is put back, had no edits tried on it.
      const auto& tried = other.patched.edits;
      return i < tried.size() &&
             (tried[i].outcome == Outcome::Applied || tried[i].outcome == Outcome::AlreadyDone);
    });
    const bool here = edit.outcome != Outcome::NoMatch && edit.outcome != Outcome::Elsewhere;
    if (here || !elsewhere) out.push_back(edit);
  }
  return out;
}

/// What an update brought, for who applies old recipes to it.
std::string differences_text(const Session& session, const PrepareArguments& options,
                             const KitDraft& kit) {
  if (options.like.empty()) return {};
  std::string out = "\n" + session.paint.heading("Against the kit before") + "\n";
  if (kit.differences.empty())
    return out + "  kernel, init, fstab, command line and room are as they were\n";
  for (const BuildDifference& one : kit.differences) {
    out += fmt::format("  {} {}: {} -> {}\n", one.partition, printable(one.what),
                       printable(one.before), printable(one.after));
    for (const std::string& line : one.diff)
      out += fmt::format("    {}\n", printable(line));
  }
  return out;
}

Json differences_json(const std::vector<BuildDifference>& differences) {
  Json out = Json::array();
  for (const BuildDifference& one : differences)
    out.push_back({{"partition", one.partition},
                   {"what", one.what},
                   {"before", one.before},
                   {"after", one.after},
                   {"diff", one.diff}});
  return out;
}

/// `PARTITION=FILE`. Errors: Usage.
Result<GivenFile> given_file(const std::string& text) {
  const std::size_t equals = text.find('=');
  if (equals == text.npos || equals == 0 || equals + 1 == text.size())
    return fail({.code = ErrorCode::Usage,
                 .message = "--with needs PARTITION=FILE",
                 .found = text,
                 .hint = "For example --with recovery=my-recovery.img"});
  return GivenFile{text.substr(0, equals), text.substr(equals + 1)};
}

Result<PrepareWish> wish_of(const PrepareArguments& options) {
  PrepareWish out{.firmware = options.firmware,
                  .recipes = options.recipes.recipes,
                  .settings = {},
                  .like = options.like,
                  .sheet = options.sheet,
                  .slots = slots_of(options.slots),
                  .key = options.key,
                  .signer = options.signer,
                  .given = {},
                  .accept = options.accept,
                  .base = options.base,
                  .onto_foreign = options.recipes.onto_foreign,
                  .wipe = options.wipe,
                  .stock = options.stock,
                  .whole = options.whole};
  WEXLO_TRY(out.settings, settings_of(options.recipes.settings));
  for (const std::string& one : options.with) {
    WEXLO_TRY(GivenFile file, given_file(one));
    out.given.push_back(std::move(file));
  }
  for (const std::string& one : options.install)
    out.given.push_back({"", one});
  return out;
}

/// An image that is written as it was given, from a file.
std::string large_text(const KitImage& image) {
  return fmt::format(
      "as given: {}{}{}\n", human_size(image.size()),
      image.is_logical() ? ", logical partition " + image.logical : "",
      image.flash.pieces.empty() ? "" : fmt::format(", in {} pieces", image.flash.pieces.size()));
}

std::string state_text(const PrepareArguments& options, const KitImage& image) {
  if (!image.written) return "left as it is";
  if (image.made == Made::Given) return "as given";
  if (image.made == Made::Stock) return "stock";
  return options.dry_run ? "would be changed" : "-> " + image.flash.file;
}

std::string image_text(const Session& session, const PrepareArguments& options, const KitDraft& kit,
                       const KitImage& image) {
  const std::string name = session.paint.heading(image.partition);
  if (image.written && !image.is_held()) return fmt::format("\n{} {}", name, large_text(image));
  std::string out = fmt::format("\n{} {}\n", name, state_text(options, image));
  const Shown shown = options.dry_run ? Shown::Effects : Shown::Details;
  out += edits_text(session, worth_showing(kit, image), shown);
  out += edits_text(session, image.patched.added, Shown::Effects);
  if (session.globals.verbose) out += ranges_text(session, image.patched.ranges);
  if (!image.written || image.made != Made::Patched) return out;
  std::uint64_t bytes = 0;
  for (const ChangedRange& range : image.patched.ranges)
    bytes += range.size;
  out += fmt::format("  differs from stock in {}, {}, each accounted for\n",
                     counted(image.patched.ranges.size(), "place"), counted(bytes, "byte"));
  return out + "  " + way_back_text(image.patched.way_back);
}

std::string title_text(const PrepareArguments& options, const Prepared& done) {
  if (done.stopped) return "No kit: problems were found";
  if (options.dry_run) return "Dry run: nothing is written";
  return fmt::format("Kit ready: {}", printable(options.kit));
}

std::string text_of(const Session& session, const PrepareArguments& options, const Prepared& done) {
  const KitDraft& kit = done.kit;
  std::string out = session.paint.heading(title_text(options, done)) + "\n";
  const auto line = [&](std::string_view name, std::string_view value) {
    if (!value.empty()) out += fmt::format("  {:<14}{}\n", name, printable(value));
  };
  line("device", kit.build.device);
  line("build", kit.build.fingerprint);
  line("patch level", kit.build.patch_level);
  line("target", kit.target.partition.empty()
                     ? kit.target.reason
                     : fmt::format("{}: {}", kit.target.partition, kit.target.reason));
  out += fit_text(session, kit.fit);
  if (done.stopped) return out + "\n";
  for (const KitImage& image : kit.images)
    // Looked at for mount points, say, and none was there.
    if (image.written || !worth_showing(kit, image).empty())
      out += image_text(session, options, kit, image);
  if (kit.install)
    out += fmt::format("\n{} {}, from recovery{}\n", session.paint.heading("install"),
                       printable(kit.install->file),
                       kit.install->payload ? "; it lands on the other slot" : "");
  out += differences_text(session, options, kit);
  const KitVerdict& verdict = kit.judged.verdict;
  out += "\n" + session.paint.heading("Verified boot") + "\n";
  line("needs",
       verdict.needs == Needs::OwnKey ? "a phone that trusts your key" : "an unlocked bootloader");
  line("", verdict.why);
  out += "\n" + session.paint.heading("plan.toml") + "\n" + steps_text(session, kit.plan.steps);
  return out + fmt::format("  the way back: {} steps, with the stock images in stock/\n\n",
                           kit.plan.back.size());
}

Json verdict_json(const KitVerdict& verdict) {
  return {{"needs", needs_word(verdict.needs)},
          {"why", verdict.why},
          {"locked", verified::outlook_name(verdict.locked)},
          {"unlocked", verified::outlook_name(verdict.unlocked)},
          {"key_sha256", verdict.key_sha256.empty() ? Json() : Json(verdict.key_sha256)}};
}

Json result_json(const PrepareArguments& options, const Prepared& done) {
  const KitDraft& kit = done.kit;
  Json images = Json::array();
  for (const KitImage& image : kit.images)
    images.push_back(image_json(image));
  return {{"target", kit.target.partition},
          {"reason", kit.target.reason},
          {"layout", layout_name(kit.target.layout)},
          {"kit", options.dry_run || done.stopped ? Json() : Json(options.kit)},
          {"fit", fit_json(kit.fit)},
          {"stopped", done.stopped},
          {"device", kit.build.device},
          {"build", kit.build.fingerprint},
          {"images", images},
          {"verification", verdict_json(kit.judged.verdict)},
          {"plan", steps_json(kit.plan.steps)},
          {"differences", differences_json(kit.differences)}};
}

Result<Reply> run_prepare(const PrepareArguments& options, const Session& session) {
  if (options.kit.empty() && !options.dry_run)
    return fail({.code = ErrorCode::Usage,
                 .message = "prepare needs a name for the kit",
                 .hint = "Add -o KIT, or --dry-run to see what would be done."});
  Reply reply;
  WEXLO_TRY(const PrepareWish wish, wish_of(options));
  WEXLO_TRY(PrepareOptions prepare_options, options_of(wish, reply.findings, session.context));
  prepare_options.dry_run = options.dry_run;
  if (options.force) prepare_options.overwrite = Overwrite::Replace;
  WEXLO_TRY(const Prepared done,
            prepare(options.firmware, prepare_options, options.kit, session.context));
  reply.result = result_json(options, done);
  std::ranges::copy(done.kit.findings, std::back_inserter(reply.findings));
  reply.text = text_of(session, options, done);
  if (done.stopped) reply.refusal = refusal(options, done);
  return reply;
}

}  // namespace

void add_prepare(CLI::App& app, Session& session, int& exit_code) {
  auto options = std::make_shared<PrepareArguments>();
  Command command(app, "prepare", "The main job: firmware and recipes to a kit");
  command.positional("FIRMWARE", options->firmware, "The package");
  add_recipe_options(command, options->recipes, Need::Optional);
  command.option("-o,--output", "KIT", options->kit, "The kit to make")
      .option("--like", "KIT", options->like,
              "The recipes and settings of an older kit; tells what differs from its build")
      .option("--sheet", "SHEET", options->sheet,
              "What is known of the phone: the firmware has to fit it")
      .option("--base", "DIR|FIRMWARE", options->base,
              "The older build that an incremental package starts from")
      .option("--with", "PARTITION=FILE", options->with,
              "An image of your own besides: a recovery, a generic system, a vbmeta")
      .option("--install", "ZIP", options->install,
              "A system package that is installed from recovery before the images are written")
      .option("--accept", "CODE", options->accept,
              "Go on in spite of this finding, named by its code")
      .flag("--whole", options->whole,
            "The firmware has to be complete: what it lacks is missing, not the phone's own")
      .flag("--stock", options->stock, "No recipe: a kit that only puts the stock images back")
      .option("--key", "KEY", options->key,
              "Your own signing key (PEM): a phone that trusts it starts the kit locked")
      .option("--signer", "PROGRAM", options->signer,
              "Signs instead of a key file; --key is then the public key")
      .flag("--dry-run", options->dry_run, "Tell what would be done, write nothing")
      .choice("--slots", {"current", "both"}, options->slots,
              "Slots to write; both only when the same build is in both")
      .flag("--wipe", options->wipe, "Plan a wipe of the user's data")
      .flag("--force", options->force, "Replace a kit that is there already")
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "prepare", run_prepare(*options, session));
      });
}

}  // namespace wexlo::cli
