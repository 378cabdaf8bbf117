#include "job/prepare_wish.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "commands.hpp"
#include "edits.hpp"
#include "kit/plan/plan_text.hpp"
#include "options.hpp"
#include "prepare_text.hpp"
#include "reply.hpp"
#include "report/plan_json.hpp"
#include "report/rehearsal_page.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

/// Why there is no kit, naming what --accept would have to name.
Error refusal(const PrepareArguments& options, const Prepared& done) {
  const auto codes = stopping(done);
  return {.code = ErrorCode::DoesNotFit,
          .message = "no kit was made because of problems",
          .file = options.firmware,
          .found = fmt::format("{}", fmt::join(codes, ", ")),
          .hint = fmt::format("Take the firmware that fits. wexlo explain {} tells more.",
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
  std::string partition = text.substr(0, equals);
  // Named as the file is: "boot.img=FILE".
  if (partition.ends_with(".img")) partition.resize(partition.size() - 4);
  return GivenFile{std::move(partition), text.substr(equals + 1)};
}

Result<PrepareWish> wish_of(const PrepareArguments& options, const UserSettings& settings) {
  PrepareWish out{.firmware = options.firmware,
                  .recipes = recipe_files(options.recipes.recipes, settings),
                  .settings = {},
                  .like = options.like,
                  .sheet = sheet_file(options.sheet, settings),
                  .slots = slots_of(options.slots),
                  .key = options.key,
                  .signer = options.signer,
                  .given = {},
                  .accept = options.accept,
                  .technician = settings.technician,
                  .base = options.base,
                  .allow_programs = options.recipes.allow_programs,
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
          {"rehearsal", done.rehearsal ? rehearsal_json(*done.rehearsal) : Json()},
          {"differences", differences_json(kit.differences)}};
}

Result<Reply> run_prepare(const PrepareArguments& options, const Session& session) {
  if (options.kit.empty() && !options.dry_run)
    return fail({.code = ErrorCode::Usage,
                 .message = "prepare needs a name for the kit",
                 .hint = "Add -o KIT, or --dry-run to see what would be done."});
  Reply reply;
  WEXLO_TRY(const PrepareWish wish, wish_of(options, session.settings));
  WEXLO_TRY(PrepareOptions prepare_options, options_of(wish, reply.findings, session.context));
  prepare_options.dry_run = options.dry_run;
  prepare_options.rehearse = !options.no_rehearsal;
  if (options.force) prepare_options.overwrite = Overwrite::Replace;
  WEXLO_TRY(const Prepared done,
            prepare(options.firmware, prepare_options, options.kit, session.context));
  reply.result = result_json(options, done);
  std::ranges::copy(done.kit.findings, std::back_inserter(reply.findings));
  reply.text = prepare_text(session, options, done);
  reply.ending = prepare_ending(session, options, done);
  if (done.stopped) {
    reply.refusal = refusal(options, done);
    reply.reasons = fit_reasons(done.kit.fit);
  }
  return reply;
}

}  // namespace

void add_prepare(Commands& commands, Session& session, int& exit_code) {
  auto options = std::make_shared<PrepareArguments>();
  Command command(commands, "prepare");
  command.operand("FIRMWARE", options->firmware, "The package");
  add_recipe_options(command, options->recipes, Need::Optional);
  command
      .option("--like", "KIT", options->like,
              "The recipes and settings of an older kit; what differs from its build is told")
      .flag("--stock", options->stock, "No recipe: a kit that only puts the stock images back")
      .section(Section::Firmware)
      .option("--with", "PARTITION=FILE", options->with,
              "An image of your own besides: a recovery, a generic system, a vbmeta")
      .option("--install", "ZIP", options->install,
              "A system package that is installed from recovery before the images are written")
      .option("--base", "DIR|FIRMWARE", options->base,
              "The older build that an incremental package starts from")
      .flag("--whole", options->whole,
            "The firmware has to be complete: what it lacks is missing, not the phone's own")
      .section(Section::Phone)
      .option("--sheet", "SHEET", options->sheet,
              "What is known of the phone: the firmware is compared with it")
      .choice("--slots", {"current", "both"}, options->slots,
              "Slots to write; both only when the same build is in both")
      .flag("--wipe", options->wipe, "Plan a wipe of the user's data")
      .option("--accept", "FINDING", options->accept,
              "Go on in spite of this finding, named by its code; wexlo explain CODE tells what it "
              "means first")
      .flag("--no-rehearsal", options->no_rehearsal,
            "Do not play the plan on a simulated phone before the kit is made")
      .section(Section::Signing)
      .option("--key", "KEY", options->key,
              "Your own signing key (PEM): a phone that trusts it starts the kit locked")
      .option("--signer", "PROGRAM", options->signer,
              "Signs instead of a key file; --key is then the public key")
      .section(Section::Output)
      .option("-o,--output", "KIT", options->kit, "The kit to make")
      .flag("--dry-run", options->dry_run, "Tell what would be done, write nothing")
      .flag("--force", options->force, "Replace a kit that is there already")
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "prepare", run_prepare(*options, session));
      });
}

}  // namespace wexlo::cli
