#include <fmt/format.h>

#include "base/source.hpp"
#include "commands.hpp"
#include "options.hpp"
#include "parts/landmarks.hpp"
#include "reply.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

struct UnpackArguments {
  std::string image, folder;
  bool force = false;
};

Result<Reply> run_unpack(const UnpackArguments& options, const Session& session) {
  WEXLO_CHECK(check_not_input(options.folder, {options.image}));
  WEXLO_TRY(const SourcePtr source, open_file(options.image));
  WEXLO_TRY(const LoadedImage image, load_image(*source));
  auto unpacked =
      parts::unpack(image, options.folder, options.force ? Overwrite::Replace : Overwrite::Refuse,
                    session.context);
  if (!unpacked) return fail(in_file(std::move(unpacked).error(), options.image));
  Reply reply;
  Json rows = Json::array();
  Table table({"part", ">size", "file", "tree", ""});
  for (const parts::PartRow& part : unpacked->parts) {
    rows.push_back({{"name", part.name},
                    {"file", part.file},
                    {"size", part.size},
                    {"compression", part.compression.empty() ? Json() : Json(part.compression)},
                    {"tree", part.tree.empty() ? Json() : Json(part.tree)},
                    {"label", part.label.empty() ? Json() : Json(part.label)}});
    std::string note = part.compression;
    for (const std::string& more : {part.label, part.note})
      if (!more.empty()) note += (note.empty() ? "" : ", ") + printable(more);
    table.row({printable(part.name), human_size(part.size), part.file,
               part.tree.empty() ? "" : part.tree + "/", note});
    if (!part.note.empty() && part.name != "kernel.config")
      reply.findings.push_back({Level::Note, FindingCode::KeptWhole, part.note, part.name});
  }
  Json marks = Json::array();
  Table found({"", ""});
  for (const parts::Landmark& one : parts::landmarks(*unpacked, options.folder)) {
    marks.push_back({{"kind", parts::landmark_name(one.kind)}, {"file", one.file}});
    found.row({std::string(parts::landmark_title(one.kind)),
               printable((std::filesystem::path(options.folder) / one.file).string())});
  }
  reply.result = {
      {"kind", unpacked->kind}, {"folder", options.folder}, {"parts", rows}, {"landmarks", marks}};
  reply.text = fmt::format("{} image, taken apart into {}\n{}", unpacked->kind,
                           printable(options.folder), table.text(session.paint));
  if (!found.empty()) reply.text += "\n" + found.text(session.paint);
  reply.text += fmt::format("\nEdit what you like, then: wexlo repack {} -o IMAGE\n",
                            printable(options.folder));
  return reply;
}

}  // namespace

void add_unpack(Commands& commands, Session& session, int& exit_code) {
  auto options = std::make_shared<UnpackArguments>();
  Command(commands, "unpack")
      .operand("IMAGE", options->image, "The image")
      .option("-o,--output", "PARTS", options->folder, "The parts folder to make", Need::Required)
      .flag("--force", options->force, "Replace a parts folder that is there already")
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "unpack", run_unpack(*options, session));
      });
}

}  // namespace wexlo::cli
