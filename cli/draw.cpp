#include <fmt/format.h>

#include "base/output.hpp"
#include "commands.hpp"
#include "job/draw.hpp"
#include "options.hpp"
#include "reply.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

struct DrawArguments {
  std::string path, other, figure, file;
  bool force = false;
};

Error ending_error(const std::string& file) {
  return {.code = ErrorCode::Usage,
          .message = "the file's ending says how it is drawn",
          .file = file,
          .expected = ".svg, .png or .pdf",
          .hint = "For example -o figure.svg"};
}

Result<Bytes> written(const figure::Scene& scene, const std::string& file) {
  if (file.ends_with(".svg")) return to_bytes(figure::to_svg(scene));
  if (file.ends_with(".png")) return figure::to_png(scene);
  if (file.ends_with(".pdf")) return figure::to_pdf(scene);
  return fail(ending_error(file));
}

Result<Reply> run_draw(const DrawArguments& options, const Session& session) {
  // Before anything is read: a wrong ending is a wrong call.
  const bool known = options.file.ends_with(".svg") || options.file.ends_with(".png") ||
                     options.file.ends_with(".pdf");
  if (!known) return fail(ending_error(options.file));
  const auto overwrite = options.force ? Overwrite::Replace : Overwrite::Refuse;
  WEXLO_CHECK(check_not_input(options.file, {options.path, options.other}));
  WEXLO_CHECK(check_absent(options.file, overwrite));
  WEXLO_TRY(const figure::Scene scene,
            draw(options.path, options.other, {.figure = options.figure}, session.context));
  WEXLO_TRY(const Bytes bytes, written(scene, options.file));
  WEXLO_CHECK(write_file(options.file, bytes, overwrite));
  Reply reply;
  reply.result = {{"file", options.file}, {"title", scene.title}, {"size", bytes.size()}};
  reply.text = fmt::format("{}: {}\n", printable(scene.title), printable(options.file));
  return reply;
}

}  // namespace

void add_draw(Commands& commands, Session& session, int& exit_code) {
  auto options = std::make_shared<DrawArguments>();
  Command(commands, "draw")
      .operand("PATH", options->path, "An image, a package or a folder of images")
      .operand("PATH2", options->other, "A second image: what differs is drawn", Need::Optional)
      .option("-o,--output", "FILE", options->file, "FILE.svg, FILE.png or FILE.pdf",
              Need::Required)
      .choice("--figure", {"bytes", "changes", "super", "chain", "payload"}, options->figure,
              "Which figure; without it, the one that suits the input")
      .flag("--force", options->force, "Replace a file that is there already")
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "draw", run_draw(*options, session));
      });
}

}  // namespace wexlo::cli
