#include "job/prepare.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "commands.hpp"
#include "edits.hpp"
#include "options.hpp"
#include "reply.hpp"
#include "signing.hpp"

namespace wexlo::cli {
namespace {

struct Options {
  std::string firmware, kit, like, slots, key, signer;
  RecipeOptions recipes;
  bool wipe = false, force = false, dry_run = false;
};

Json image_json(const PreparedImage& image) {
  return {{"partition", image.partition},
          {"flashed", image.flashed},
          {"file", image.flashed ? Json(image.files.flash_file) : Json()},
          {"stock_file", image.flashed ? Json(image.files.stock_file) : Json()},
          {"size", image.patched.bytes.size()},
          {"edits", edits_json(image.patched)},
          {"entries", image.patched.entries},
          {"ranges", ranges_json(image.patched.ranges)},
          {"way_back", way_back_json(image.patched.way_back)}};
}

std::string steps_text(const Session& session, const std::vector<Step>& steps) {
  Table table({">#", "do", "what and why"});
  for (std::size_t i = 0; i < steps.size(); ++i)
    table.row({fmt::format("{}", i + 1), steps[i].act,
               steps[i].act == "expect" && steps[i].at_least
                   ? fmt::format("{} is at least {}", steps[i].variable, *steps[i].at_least)
               : steps[i].act == "expect"
                   ? fmt::format("{} is {}. {}", steps[i].variable, printable(steps[i].value),
                                 steps[i].about)
                   : steps[i].about + (steps[i].data_loss ? " (data is lost)" : "")});
  return table.text(session.paint);
}

std::string counted(std::uint64_t count, std::string_view what) {
  return fmt::format("{} {}{}", count, what, count == 1 ? "" : "s");
}

/// An edit that was tried here and found its place in another image is no news here.
std::vector<EditReport> worth_showing(const Prepared& done, const PreparedImage& image) {
  std::vector<EditReport> out;
  for (std::size_t i = 0; i < image.patched.edits.size(); ++i) {
    const EditReport& edit = image.patched.edits[i];
    const bool elsewhere = std::ranges::any_of(done.images, [&](const PreparedImage& other) {
      return other.patched.edits[i].outcome == Outcome::Applied ||
             other.patched.edits[i].outcome == Outcome::AlreadyDone;
    });
    const bool here = edit.outcome != Outcome::NoMatch && edit.outcome != Outcome::Elsewhere;
    if (here || !elsewhere) out.push_back(edit);
  }
  return out;
}

/// What an update brought, for who applies old recipes to it.
std::string differences_text(const Session& session, const Options& options, const Prepared& done) {
  if (options.like.empty()) return {};
  std::string out = "\n" + session.paint.heading("Against the kit before") + "\n";
  if (done.differences.empty())
    return out + "  kernel, init, fstab, command line and room are as they were\n";
  for (const BuildDifference& one : done.differences) {
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

/// The recipes and settings: given, or those of an older kit.
Status take_settings(const Options& options, PrepareOptions& out) {
  std::string slots = options.slots;
  if (!options.like.empty()) {
    WEXLO_TRY(OldKit kit, read_old_kit(options.like));
    out.recipes = std::move(kit.recipes);
    out.before = std::move(kit.facts);
    out.patch.architecture = kit.architecture;
    out.wipe |= kit.wipe;
    if (slots.empty()) slots = kit.slots;
  } else {
    WEXLO_TRY(out.recipes, load(options.recipes, out.patch.architecture));
  }
  out.slots = slots == "both" ? Slots::Both : Slots::Current;
  return {};
}

std::string text_of(const Session& session, const Options& options, const Prepared& done) {
  std::string out = session.paint.heading(
                        options.dry_run ? std::string("Dry run: nothing is written")
                                        : fmt::format("Kit ready: {}", printable(options.kit))) +
                    "\n";
  const auto line = [&](std::string_view name, std::string_view value) {
    if (!value.empty()) out += fmt::format("  {:<14}{}\n", name, printable(value));
  };
  line("device", done.build.device);
  line("build", done.build.fingerprint);
  line("patch level", done.build.patch_level);
  line("target", fmt::format("{}: {}", done.target.partition, done.target.reason));
  for (const PreparedImage& image : done.images) {
    // Looked at for mount points, say, and none was there.
    if (!image.flashed && worth_showing(done, image).empty()) continue;
    out += fmt::format("\n{} {}\n", session.paint.heading(image.partition),
                       !image.flashed    ? "left as it is"
                       : options.dry_run ? "would be changed"
                                         : "-> " + image.files.flash_file);
    const Shown shown = options.dry_run ? Shown::Effects : Shown::Details;
    out += edits_text(session, worth_showing(done, image), shown);
    out += edits_text(session, image.patched.added, Shown::Effects);
    if (session.globals.verbose) out += ranges_text(session, image.patched.ranges);
    if (image.flashed) {
      std::uint64_t bytes = 0;
      for (const ChangedRange& range : image.patched.ranges)
        bytes += range.size;
      out += fmt::format("  differs from stock in {}, {}, each accounted for\n",
                         counted(image.patched.ranges.size(), "place"), counted(bytes, "byte"));
      out += "  " + way_back_text(image.patched.way_back);
    }
  }
  out += differences_text(session, options, done);
  if (options.dry_run) return out;
  out += "\n" + session.paint.heading("Verified boot") + "\n";
  line("needs", done.verification.needs == "own-key" ? "a phone that trusts your key"
                                                     : "an unlocked bootloader");
  line("", done.verification.why);
  out += "\n" + session.paint.heading("plan.toml") + "\n" + steps_text(session, done.plan.steps);
  out += fmt::format("  the way back: {} steps, with the stock images in stock/\n\n",
                     done.plan.back.size());
  return out;
}

Result<Reply> run(const Options& options, const Session& session) {
  if (options.like.empty() == options.recipes.recipes.empty())
    return fail({.code = ErrorCode::Usage,
                 .message = options.like.empty() ? "prepare wants a recipe"
                                                 : "--like brings the recipes of its kit",
                 .hint = "Give -r RECIPE, or --like KIT for the recipes of an older kit."});
  if (options.kit.empty() && !options.dry_run)
    return fail({.code = ErrorCode::Usage,
                 .message = "prepare wants a name for the kit",
                 .hint = "Add -o KIT, or --dry-run to see what would be done."});
  PrepareOptions prepare_options{.wipe = options.wipe, .dry_run = options.dry_run};
  prepare_options.patch.onto_foreign = options.recipes.onto_foreign;
  if (options.force) prepare_options.overwrite = Overwrite::Replace;
  WEXLO_CHECK(take_settings(options, prepare_options));
  Reply reply;
  WEXLO_TRY(prepare_options.signer,
            find_signer(options.key, options.signer, session.context, reply.findings));
  WEXLO_TRY(const Prepared done,
            prepare(options.firmware, prepare_options, options.kit, session.context));
  Json images = Json::array(), steps = Json::array();
  for (const PreparedImage& image : done.images)
    images.push_back(image_json(image));
  for (const Step& step : done.plan.steps)
    steps.push_back(
        {{"id", step.id}, {"do", step.act}, {"about", step.about}, {"data_loss", step.data_loss}});
  reply.result = {
      {"target", done.target.partition},
      {"reason", done.target.reason},
      {"layout", layout_name(done.target.layout)},
      {"kit", options.dry_run ? Json() : Json(options.kit)},
      {"device", done.build.device},
      {"build", done.build.fingerprint},
      {"images", images},
      {"verification",
       {{"needs", done.verification.needs},
        {"why", done.verification.why},
        {"locked", done.verification.locked ? "starts" : "refuses"},
        {"unlocked", done.verification.unlocked ? "starts" : "refuses"},
        {"key_sha256",
         done.verification.key_sha256.empty() ? Json() : Json(done.verification.key_sha256)}}},
      {"plan", steps},
      {"differences", differences_json(done.differences)}};
  reply.findings.insert(reply.findings.end(), done.findings.begin(), done.findings.end());
  reply.text = text_of(session, options, done);
  return reply;
}

}  // namespace

void add_prepare(CLI::App& app, Session& session, int& exit_code) {
  auto options = std::make_shared<Options>();
  Command command(app, "prepare", "The main job: firmware and recipes to a kit");
  command.positional("FIRMWARE", options->firmware, "The package");
  add_recipe_options(command, options->recipes, Need::Optional);
  command.option("-o,--output", "KIT", options->kit, "The kit to make")
      .option("--like", "KIT", options->like,
              "The recipes and settings of an older kit; tells what differs from its build")
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
        exit_code = finish(session, "prepare", run(*options, session));
      });
}

}  // namespace wexlo::cli
