#include <fmt/format.h>

#include "base/digest.hpp"
#include "base/text.hpp"
#include "commands.hpp"
#include "options.hpp"
#include "parts/parts.hpp"
#include "reply.hpp"

namespace wexlo::cli {
namespace {

struct Options {
  std::string folder, image;
  bool force = false;
};

Result<Reply> run(const Options& options, const Session& session) {
  const Overwrite overwrite = options.force ? Overwrite::Replace : Overwrite::Refuse;
  WEXLO_CHECK(check_absent(options.image, overwrite));
  auto repacked = parts::repack(options.folder);
  if (!repacked) return fail(in_file(std::move(repacked).error(), options.folder));
  WEXLO_CHECK(check_stop(session.context));
  WEXLO_CHECK(write_file(options.image, repacked->bytes, overwrite));
  Reply reply;
  Json rows = Json::array();
  Table table({"part", "change", "where", ""});
  for (const parts::Change& change : repacked->changes) {
    rows.push_back({{"part", change.part},
                    {"what", change.what},
                    {"place", change.place},
                    {"detail", change.detail}});
    table.row({change.part, change.what, printable(change.place), printable(change.detail)});
  }
  for (const std::string& note : repacked->notes)
    reply.findings.push_back({"note", "verified-boot", note, options.image});
  reply.result = {{"file", options.image},
                  {"size", repacked->bytes.size()},
                  {"sha256", sha256_hex(repacked->bytes)},
                  {"changed", !repacked->changes.empty()},
                  {"changes", rows}};
  reply.text = table.empty() ? "nothing was edited: the image is the stock one, byte for byte\n"
                             : table.text(session.paint);
  reply.text += fmt::format("{}, {} bytes\n", printable(options.image), repacked->bytes.size());
  return reply;
}

}  // namespace

void add_repack(CLI::App& app, Session& session, int& exit_code) {
  auto options = std::make_shared<Options>();
  Command(app, "repack", "Put a parts folder together into an image")
      .positional("PARTS", options->folder, "The parts folder")
      .option("-o,--output", "IMAGE", options->image, "The image to write", Need::Required)
      .flag("--force", options->force, "Replace an image that is there already")
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "repack", run(*options, session));
      });
}

}  // namespace wexlo::cli
