#include <fmt/format.h>

#include "base/digest.hpp"
#include "base/output.hpp"
#include "base/source.hpp"
#include "commands.hpp"
#include "edits.hpp"
#include "job/patch.hpp"
#include "options.hpp"
#include "reply.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

struct PatchArguments {
  std::string image, output;
  RecipeOptions recipes;
  bool dry_run = false, force = false;
};

/// Edits that this image has no place for: one image alone was given, so they are not done.
std::string elsewhere_text(const Session& session, const std::vector<EditReport>& edits) {
  std::string out;
  for (const EditReport& edit : edits)
    if (edit.outcome == Outcome::Elsewhere && !session.globals.verbose)
      out += fmt::format("  {}: {}\n      not done here: {}\n",
                         session.paint.warning(outcome_name(edit.outcome)), printable(edit.summary),
                         printable(edit.why));
  return out;
}

Result<Reply> run_patch(const PatchArguments& options, const Session& session) {
  const Overwrite overwrite = options.force ? Overwrite::Replace : Overwrite::Refuse;
  if (options.output.empty() && !options.dry_run)
    return fail({.code = ErrorCode::Usage,
                 .message = "patch needs a name for the output",
                 .hint = "Add -o OUT, or --dry-run to see what would be done."});
  if (!options.dry_run) {
    std::vector<std::string> inputs = options.recipes.recipes;
    inputs.push_back(options.image);
    WEXLO_CHECK(check_not_input(options.output, inputs));
    WEXLO_CHECK(check_absent(options.output, overwrite));
  }
  PatchOptions how{.onto_foreign = options.recipes.onto_foreign,
                   .allow_programs = options.recipes.allow_programs};
  WEXLO_TRY(auto recipes, load(options.recipes, session.settings, how.told));
  WEXLO_TRY(const SourcePtr source, open_file(options.image));
  WEXLO_TRY(const LoadedImage image, load_image(*source));
  auto patched = patch_loaded(image, {partition_of(image), true}, recipes, how, options.image,
                              session.context);
  if (!patched) return fail(in_file(std::move(patched).error(), options.image));
  if (auto matched = check_matches({patched->edits}); !matched)
    return fail(in_file(std::move(matched).error(), options.image));
  WEXLO_CHECK(check_stop(session.context));
  if (!options.dry_run) WEXLO_CHECK(write_file(options.output, patched->bytes, overwrite));

  Reply reply;
  reply.result = {{"file", options.dry_run ? Json() : Json(options.output)},
                  {"partition", partition_of(image)},
                  {"changed", patched->changed},
                  {"size", patched->bytes.size()},
                  {"sha256", patched->sha256},
                  {"edits", edits_json(*patched)},
                  {"entries", patched->entries},
                  {"ranges", ranges_json(patched->ranges)},
                  {"way_back", way_back_json(patched->way_back)}};
  reply.findings = findings_of(*patched, options.image);
  reply.text = fmt::format("{} ({})\n", printable(options.image), partition_of(image)) +
               edits_text(session, *patched, options.dry_run ? Shown::Effects : Shown::Details) +
               elsewhere_text(session, patched->edits);
  if (!patched->changed) reply.text += "nothing was left to do: the output is the input's bytes\n";
  reply.text += ranges_text(session, patched->ranges);
  if (patched->changed) reply.text += way_back_text(patched->way_back);
  if (options.dry_run)
    reply.text += "dry run: nothing was written\n";
  else
    reply.text += fmt::format("{}, {} bytes\n", printable(options.output), patched->bytes.size());
  return reply;
}

}  // namespace

void add_patch(Commands& commands, Session& session, int& exit_code) {
  auto options = std::make_shared<PatchArguments>();
  Command command(commands, "patch");
  command.operand("IMAGE", options->image, "The stock image");
  add_recipe_options(command, options->recipes);
  command.section(Section::Output)
      .option("-o,--output", "OUT", options->output, "The image to write")
      .flag("--dry-run", options->dry_run, "Tell what would be done, write nothing")
      .flag("--force", options->force, "Replace an image that is there already")
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "patch", run_patch(*options, session));
      });
}

}  // namespace wexlo::cli
