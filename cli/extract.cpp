#include "job/extract.hpp"

#include <fmt/format.h>

#include "base/text.hpp"
#include "commands.hpp"
#include "firmware/formats.hpp"
#include "options.hpp"
#include "reply.hpp"

namespace wexlo::cli {
namespace {

struct Options {
  std::string firmware, folder;
  ExtractOptions extract;
  bool force = false;
};

Result<Reply> run(Options options, const Session& session) {
  if (options.force) options.extract.overwrite = Overwrite::Replace;
  WEXLO_TRY(const auto firmware, open_firmware(options.firmware));
  WEXLO_TRY(const auto extracted,
            extract(*firmware, options.firmware, options.extract, options.folder, session.context));
  Reply reply;
  reply.result["partitions"] = Json::array();
  Table table({"partition", ">size", "verified", "file"});
  for (const ExtractedPartition& one : extracted) {
    reply.result["partitions"].push_back({{"name", one.name},
                                          {"file", one.file.string()},
                                          {"size", one.size},
                                          {"sha256", one.sha256},
                                          {"verified", one.verified}});
    table.row({one.name, human_size(one.size), one.verified ? "yes" : "no digest to check",
               printable(one.file.string())});
    if (!one.verified)
      reply.findings.push_back({"warning", "no-digest",
                                "The package promises no digest: the image could not be verified.",
                                one.name});
  }
  reply.text = table.text(session.paint);
  return reply;
}

}  // namespace

void add_extract(CLI::App& app, Session& session, int& exit_code) {
  auto options = std::make_shared<Options>();
  Command(app, "extract", "Take partitions out of a firmware, verified")
      .positional("FIRMWARE", options->firmware, "The package")
      .positional("PARTITION", options->extract.partitions, "Partitions; none: the boot chain",
                  Need::Optional)
      .option("-o,--output", "DIR", options->folder, "Folder for the images", Need::Required)
      .flag("--all", options->extract.all, "Every partition")
      .excludes("--all", "PARTITION")
      .flag("--force", options->force, "Replace images that are there already")
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "extract", run(*options, session));
      });
}

}  // namespace wexlo::cli
