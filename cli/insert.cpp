#include "job/insert.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "commands.hpp"
#include "job/prepare.hpp"
#include "options.hpp"
#include "reply.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

struct InsertArguments {
  std::string firmware, out;
  std::vector<std::string> images, accept;
  bool force = false;
};

Json result_json(const InsertArguments& options, const Inserted& done) {
  Json images = Json::array(), files = Json::array();
  for (const InsertedImage& one : done.images)
    images.push_back({{"name", one.partition},
                      {"in", one.file.empty() ? Json() : Json(one.file)},
                      {"size", one.new_size},
                      {"stock_size", one.old_size},
                      {"sha256", one.sha256.empty() ? Json() : Json(one.sha256)}});
  for (const FileChange& one : done.report.files)
    files.push_back({{"file", one.name}, {"size", one.new_size}, {"stock_size", one.old_size}});
  return {{"output", done.stopped ? Json() : Json(options.out)},
          {"stopped", done.stopped},
          {"images", images},
          {"files", files},
          {"lists", Json(done.report.lists)},
          {"sum_line", done.report.sum_line},
          {"size", done.size},
          {"sha256", done.sha256.empty() ? Json() : Json(done.sha256)}};
}

std::string text_of(const Session& session, const InsertArguments& options, const Inserted& done) {
  std::string out = session.paint.heading(
                        done.stopped ? std::string("Nothing was written: problems were found")
                                     : fmt::format("Package ready: {}", printable(options.out))) +
                    "\n";
  Table table({"image", "in", "size", "before"});
  for (const InsertedImage& one : done.images)
    table.row({printable(one.partition), printable(one.file.empty() ? "the package" : one.file),
               human_size(one.new_size), human_size(one.old_size)});
  out += table.text(session.paint);
  if (done.stopped) return out;
  for (const std::string& list : done.report.lists)
    out += fmt::format("  renewed: {}\n", printable(list));
  if (done.report.sum_line) out += "  the sum line at its end was made anew\n";
  out += "  read again: every image comes out as it was put in\n";
  return out;
}

Result<Reply> run_insert(const InsertArguments& options, const Session& session) {
  InsertJob job{.images = {}, .accept = options.accept};
  if (options.force) job.overwrite = Overwrite::Replace;
  for (const std::string& one : options.images) {
    const std::size_t equals = one.find('=');
    if (equals == one.npos || equals == 0 || equals + 1 == one.size())
      return fail({.code = ErrorCode::Usage,
                   .message = "insert needs NAME=IMAGE",
                   .found = one,
                   .hint = "For example boot=boot-patched.img"});
    job.images.push_back({one.substr(0, equals), one.substr(equals + 1)});
  }
  WEXLO_TRY(const Inserted done, insert(options.firmware, job, options.out, session.context));
  Reply reply;
  reply.result = result_json(options, done);
  reply.findings = done.findings;
  for (const std::string& code : options.accept)
    if (find_kinds(code).empty()) reply.findings.push_back(unused_code(code));
  reply.text = text_of(session, options, done);
  if (done.stopped) {
    std::vector<std::string> codes;
    for (const Finding& one : done.findings)
      if (one.level == Level::Problem) codes.push_back(one.id.text());
    reply.refusal = Error{.code = ErrorCode::DoesNotFit,
                          .message = "no package was written because of problems",
                          .file = options.firmware,
                          .found = fmt::format("{}", fmt::join(codes, ", ")),
                          .hint = fmt::format("Take the image that belongs there. wexlo explain "
                                              "{} tells more.",
                                              codes.front())};
  }
  return reply;
}

}  // namespace

void add_insert(Commands& commands, Session& session, int& exit_code) {
  auto options = std::make_shared<InsertArguments>();
  Command(commands, "insert")
      .operand("FIRMWARE", options->firmware, "The package: a file or a folder; it stays as it is")
      .operand("NAME=IMAGE", options->images, "A partition, and the image for it")
      .option("-o,--output", "OUT", options->out, "The package to write", Need::Required)
      .option("--accept", "FINDING", options->accept,
              "Go on in spite of this finding, named by its code")
      .flag("--force", options->force, "Replace an output that is there already")
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "insert", run_insert(*options, session));
      });
}

}  // namespace wexlo::cli
