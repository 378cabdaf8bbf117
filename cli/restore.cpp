#include "job/restore.hpp"

#include <fmt/format.h>

#include "base/output.hpp"
#include "base/source.hpp"
#include "commands.hpp"
#include "options.hpp"
#include "reply.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

struct RestoreArguments {
  std::string image, output, stock;
  bool force = false, dry_run = false;
};

Result<Reply> run_restore(const RestoreArguments& options, const Session& session) {
  const Overwrite overwrite = options.force ? Overwrite::Replace : Overwrite::Refuse;
  if (options.output.empty() && !options.dry_run)
    return fail({.code = ErrorCode::Usage,
                 .message = "restore needs a name for the stock image",
                 .hint = "Add -o STOCK, or --dry-run to see whether there is a way back."});
  if (!options.dry_run) {
    WEXLO_CHECK(check_not_input(options.output, {options.image, options.stock}));
    WEXLO_CHECK(check_absent(options.output, overwrite));
  }
  WEXLO_TRY(const SourcePtr source, open_file(options.image));
  WEXLO_TRY(const LoadedImage image, load_image(*source));
  auto restored = restore_file(image, options.image, options.stock, session.context);
  if (!restored) return fail(in_file(std::move(restored).error(), options.image));
  WEXLO_CHECK(check_stop(session.context));
  if (!options.dry_run) WEXLO_CHECK(write_file(options.output, restored->bytes, overwrite));

  Reply reply;
  reply.result = {{"file", options.dry_run ? Json() : Json(options.output)},
                  {"partition", restored->partition},
                  {"from", restored_name(restored->from)},
                  {"proof", restored->proof},
                  {"size", restored->bytes.size()},
                  {"sha256", restored->sha256},
                  {"undone", restored->undone}};
  for (const std::string& note : restored->notes)
    reply.findings.push_back({Level::Warning, FindingCode::Restore, note, options.image});
  reply.text = fmt::format("{} ({})\n", printable(options.image), restored->partition);
  for (const std::string& edit : restored->undone)
    reply.text += fmt::format("  undone: {}\n", printable(edit));
  reply.text += fmt::format(
      "the stock image, {}: {}\n",
      restored->from == RestoredFrom::StockCopy ? "from the copy" : "from the image alone",
      restored->proof);
  reply.text += options.dry_run
                    ? "dry run: nothing was written\n"
                    : fmt::format("{}, {} bytes, SHA-256 {}\n", printable(options.output),
                                  restored->bytes.size(), restored->sha256);
  return reply;
}

}  // namespace

void add_restore(CLI::App& app, Session& session, int& exit_code) {
  auto options = std::make_shared<RestoreArguments>();
  Command command(app, "restore", "Give the stock image again from a patched one");
  command.positional("PATCHED", options->image, "The patched image")
      .option("-o,--output", "STOCK", options->output, "The image to write")
      .option("--stock", "FILE", options->stock,
              "The stock image as it was kept, where the patched one does not carry its way back")
      .flag("--dry-run", options->dry_run, "Tell whether there is a way back, write nothing")
      .flag("--force", options->force, "Replace an image that is there already")
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "restore", run_restore(*options, session));
      });
}

}  // namespace wexlo::cli
