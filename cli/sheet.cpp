#include "kit/facts/sheet.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>

#include "base/output.hpp"
#include "base/source_read.hpp"
#include "commands.hpp"
#include "options.hpp"
#include "phone/fastboot/fastboot_phone.hpp"
#include "reply.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

constexpr std::uint64_t kMaxText = 4u << 20;

struct SheetArguments {
  std::vector<std::string> phones;  ///< addresses of one phone, tried in order
  std::string props, over, sheet;
  bool force = false;
};

Result<std::string> pasted(const std::string& file, const Context& context) {
  if (file == "-") {
    WEXLO_TRY(const Bytes all, read_descriptor(STDIN_FILENO, "standard input", kMaxText, context));
    return std::string(as_text(all));
  }
  WEXLO_TRY(const SourcePtr source, open_file(file));
  WEXLO_TRY(const Blob text, read_all(*source, kMaxText));
  return std::string(as_text(text.view()));
}

Json facts_json(const Sheet& sheet) {
  Json out = Json::object();
  for (const FactKey& key : sheet_keys()) {
    const auto at = sheet.facts.find(key.key());
    out[key.key()] = at == sheet.facts.end()
                         ? Json()
                         : Json{{"value", at->second.value}, {"source", at->second.source}};
  }
  return out;
}

std::string text_of(const Session& session, const SheetArguments& options, const Sheet& sheet) {
  Table table({"what", "value", "from"});
  std::size_t unknown = 0;
  for (const FactKey& key : sheet_keys()) {
    const auto at = sheet.facts.find(key.key());
    if (at == sheet.facts.end()) {
      ++unknown;
      continue;
    }
    table.row({key.key(), printable(at->second.value),
               session.paint.faint(printable(at->second.source))});
  }
  for (const auto& [name, size] : sheet.partitions)
    table.row({"partition " + printable(name), human_size(size), ""});
  for (const LogicalPartition& one : sheet.logical)
    table.row({"logical " + printable(one.name), human_size(one.size), printable(one.group)});
  return session.paint.heading(options.sheet.empty()
                                   ? std::string("Sheet")
                                   : fmt::format("Sheet: {}", printable(options.sheet))) +
         "\n" + table.text(session.paint) +
         fmt::format("  {} more are unknown: they are in the sheet, to be filled in by hand\n",
                     unknown);
}

/// The newest first: what the phone says itself, what was pasted, what an older sheet says.
Result<Sheet> gathered(const SheetArguments& options, const Session& session) {
  Sheet sheet;
  if (!options.phones.empty()) {
    WEXLO_TRY(auto addresses, parse_addresses(options.phones));
    FastbootPhone phone(std::move(addresses), session.context, {});
    WEXLO_TRY(const std::string said, phone.all_variables());
    sheet = sheet_from_properties(said, "the bootloader");
  }
  if (!options.props.empty()) {
    WEXLO_TRY(const std::string text, pasted(options.props, session.context));
    const Sheet from_text = sheet_from_properties(
        text, options.props == "-" ? "standard input"
                                   : std::filesystem::path(options.props).filename().string());
    if (from_text.facts.empty() && from_text.partitions.empty())
      return fail({.code = ErrorCode::BadValue,
                   .message = "no line in it is a property that a sheet is made of",
                   .file = options.props,
                   .expected = "lines such as [ro.product.device]: [gnomon] or product: gnomon"});
    sheet.merge(from_text);
  }
  if (!options.over.empty()) {
    WEXLO_TRY(const Sheet older, read_sheet(options.over));
    sheet.merge(older);
  }
  return sheet;
}

Result<Reply> run_sheet(const SheetArguments& options, const Session& session) {
  if (options.phones.empty() && options.props.empty() && options.over.empty())
    return fail({.code = ErrorCode::Usage,
                 .message = "sheet needs a phone, properties, or a sheet to go on with",
                 .hint = "Paste the phone's properties into a file and give it with --props."});
  const auto overwrite = options.force ? Overwrite::Replace : Overwrite::Refuse;
  if (!options.sheet.empty()) {
    WEXLO_CHECK(check_not_input(options.sheet, {options.props, options.over}));
    WEXLO_CHECK(check_absent(options.sheet, overwrite));
  }
  WEXLO_TRY(const Sheet sheet, gathered(options, session));
  if (!options.sheet.empty())
    WEXLO_CHECK(write_file(options.sheet, as_view(format_sheet(sheet)), overwrite));
  Reply reply;
  reply.result = {{"sheet", options.sheet.empty() ? Json() : Json(options.sheet)},
                  {"facts", facts_json(sheet)}};
  Json partitions = Json::object();
  for (const auto& [name, size] : sheet.partitions)
    partitions[name] = Json(size);
  reply.result["partitions"] = std::move(partitions);
  if (sheet.text("phone.codename").empty() && sheet.text("phone.product").empty())
    reply.findings.push_back(
        {Level::Warning, FindingCode::NoDevice,
         "Nothing says which device it is: whether a firmware is for it cannot be told.", ""});
  reply.text = text_of(session, options, sheet);
  return reply;
}

}  // namespace

void add_sheet(Commands& commands, Session& session, int& exit_code) {
  auto options = std::make_shared<SheetArguments>();
  Command(commands, "sheet")
      .option("--phone", "ADDRESS", options->phones,
              "A phone at its bootloader: fastboot+usb://SERIAL, fastboot+tcp://HOST:PORT or "
              "fastboot+udp://HOST:PORT")
      .gathers()
      .option("--props", "FILE", options->props,
              "Properties of the running system, or a bootloader's variables; - for standard input")
      .option("--over", "SHEET", options->over,
              "An older sheet: what is not known now is taken from it, your notes too")
      .option("-o,--output", "SHEET", options->sheet, "The sheet to write; without it, it is shown")
      .flag("--force", options->force, "Replace a sheet that is there already")
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "sheet", run_sheet(*options, session));
      });
}

}  // namespace wexlo::cli
