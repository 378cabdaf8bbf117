#include "job/restore.hpp"
#include "job/restore_kit.hpp"
#include "kit/folder/kit.hpp"

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

/// Of a kit: its stock images, verified, and copied where a folder is named.
Result<Reply> run_restore_kit(const RestoreArguments& options, const Session& session) {
  if (!options.stock.empty())
    return fail({.code = ErrorCode::Usage,
                 .message = "--stock is for one patched image, and this is a kit",
                 .file = options.image,
                 .hint = "A kit has its stock images in it: leave --stock out."});
  const std::string target = options.dry_run ? "" : options.output;
  WEXLO_TRY(const RestoredKit kit,
            restore_kit(options.image, target,
                        options.force ? Overwrite::Replace : Overwrite::Refuse, session.context));
  Reply reply;
  Json rows = Json::array();
  Table table({"partition", ">size", "stock image"});
  for (const StockCopy& one : kit.files) {
    const std::string shown = target.empty()
                                  ? (std::filesystem::path(options.image) / one.file.file).string()
                                  : one.target.string();
    rows.push_back({{"partition", one.partition},
                    {"file", shown},
                    {"size", one.file.size},
                    {"sha256", one.file.sha256}});
    table.row({one.partition, human_size(one.file.size), printable(shown)});
  }
  reply.result = {{"kit", options.image},
                  {"folder", target.empty() ? Json() : Json(target)},
                  {"device", kit.device},
                  {"build", kit.build},
                  {"files", rows}};
  reply.text = fmt::format("{} ({})\n", printable(options.image), printable(kit.device)) +
               table.text(session.paint) + "  each is what the kit says, by its SHA-256\n";
  if (target.empty()) reply.text += "nothing was copied: -o FOLDER copies them\n";
  reply.text +=
      fmt::format("The steps back: \"The way back\" in {}\n",
                  printable((std::filesystem::path(options.image) / "plan.txt").string()));
  return reply;
}

Result<Reply> run_restore(const RestoreArguments& options, const Session& session) {
  if (is_kit(options.image)) return run_restore_kit(options, session);
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

void add_restore(Commands& commands, Session& session, int& exit_code) {
  auto options = std::make_shared<RestoreArguments>();
  Command command(commands, "restore");
  command.operand("PATCHED", options->image, "The patched image, or a kit")
      .option("-o,--output", "STOCK", options->output,
              "The image to write; of a kit: the folder for its stock images")
      .option("--stock", "FILE", options->stock,
              "The stock image as it was kept, where the patched one does not carry its way back")
      .flag("--dry-run", options->dry_run, "Tell whether there is a way back, write nothing")
      .flag("--force", options->force, "Replace an image that is there already")
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "restore", run_restore(*options, session));
      });
}

}  // namespace wexlo::cli
