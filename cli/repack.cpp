#include <fmt/format.h>
#include <fmt/ranges.h>

#include <iostream>

#include "base/digest.hpp"
#include "commands.hpp"
#include "options.hpp"
#include "parts/parts.hpp"
#include "reply.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

struct RepackArguments {
  std::string folder, image;
  bool force = false, dry_run = false;
};

/// What was edited, told before anything is written: whoever sees a line they do not know can stop
/// there, and a failed write leaves the list on the screen.
std::string changes_text(const parts::Repacked& repacked, const Session& session) {
  Table table({"part", "change", "where", ""});
  for (const parts::Change& change : repacked.changes)
    table.row({change.part, change.what, printable(change.place), printable(change.detail)});
  return table.empty() ? "nothing was edited: the image is the stock one, byte for byte\n"
                       : table.text(session.paint);
}

Result<Reply> run_repack(const RepackArguments& options, const Session& session) {
  const Overwrite overwrite = options.force ? Overwrite::Replace : Overwrite::Refuse;
  if (options.image.empty() && !options.dry_run)
    return fail({.code = ErrorCode::Usage,
                 .message = "repack needs a name for the image",
                 .hint = "Add -o IMAGE, or --dry-run to see what was edited."});
  if (!options.dry_run) {
    WEXLO_CHECK(check_not_input(options.image, {options.folder}));
    WEXLO_CHECK(check_absent(options.image, overwrite));
  }
  auto repacked = parts::repack(options.folder, session.context);
  if (!repacked) return fail(in_file(std::move(repacked).error(), options.folder));
  WEXLO_CHECK(check_stop(session.context));
  Reply reply;
  const bool tells = !session.globals.json && !session.globals.quiet;
  if (tells) {
    tell(session, session.out, changes_text(*repacked, session));
    session.out.flush();
  }
  if (!options.dry_run) WEXLO_CHECK(write_file(options.image, repacked->bytes, overwrite));
  Json rows = Json::array();
  for (const parts::Change& change : repacked->changes)
    rows.push_back({{"part", change.part},
                    {"what", change.what},
                    {"place", change.place},
                    {"detail", change.detail}});
  for (const std::string& note : repacked->notes)
    reply.findings.push_back({Level::Note, FindingCode::Repack, note, options.folder});
  reply.result = {{"file", options.dry_run ? Json() : Json(options.image)},
                  {"size", repacked->bytes.size()},
                  {"sha256", repacked->sha256},
                  {"changed", !repacked->changes.empty()},
                  {"changes", rows}};
  reply.result["renewed"] = repacked->renewed;
  reply.result["not_covered"] = repacked->not_covered;
  if (!repacked->renewed.empty())
    reply.text += fmt::format("renewed: {}\n", fmt::join(repacked->renewed, ", "));
  for (const std::string& one : repacked->not_covered)
    reply.text += fmt::format("not covered any more: {}\n", one);
  reply.text += options.dry_run ? "dry run: nothing was written\n"
                                : fmt::format("{}, {} bytes\n", printable(options.image),
                                              repacked->bytes.size());
  return reply;
}

}  // namespace

void add_repack(Commands& commands, Session& session, int& exit_code) {
  auto options = std::make_shared<RepackArguments>();
  Command(commands, "repack")
      .operand("PARTS", options->folder, "The parts folder")
      .option("-o,--output", "IMAGE", options->image, "The image to write")
      .flag("--dry-run", options->dry_run, "Tell what was edited, write nothing")
      .flag("--force", options->force, "Replace an image that is there already")
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "repack", run_repack(*options, session));
      });
}

}  // namespace wexlo::cli
