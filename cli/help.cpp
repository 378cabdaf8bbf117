#include "help.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <iterator>

#include "base/output.hpp"
#include "commands.hpp"
#include "options.hpp"
#include "reply.hpp"
#include "text/fill.hpp"
#include "text/nearest.hpp"

namespace wexlo::cli {
namespace {

constexpr ExitMeaning kExits[] = {
    {0, "done, and all is well"},
    {1, "something needs a person; nothing was written"},
    {2, "the command line is wrong"},
    {3, "the input is damaged, or not what it claims to be"},
    {4, "known, but not supported"},
    {5, "reading or writing failed"},
    {6, "the phone refused, or the link was lost"},
    {130, "interrupted"},
};

/// A name in its column, and sentences beside it; below it, where the name is long.
std::string beside(std::string_view name, std::string_view about, std::size_t column,
                   const Paint& paint) {
  const std::string indent(column, ' ');
  const std::size_t width = page_width(paint);
  if (columns_of(name) + 4 > column)
    return fmt::format("  {}\n{}", name, filled(about, width, indent));
  const std::string first = fmt::format("  {:<{}}", name, column - 2);
  return filled(about, width, indent, first);
}

std::string examples_text(std::span<const Example> examples, const Paint& paint) {
  std::string out;
  for (const Example& one : examples) {
    // A command that is folded ends its lines as a shell wants it.
    std::string line = filled(one.line, page_width(paint) - 2, "      ", "  ");
    line.pop_back();
    for (std::size_t at = line.find('\n'); at != line.npos; at = line.find('\n', at + 3))
      line.replace(at, 1, " \\\n");
    out += paint.good(line) + "\n" + paint.faint(filled(one.about, page_width(paint), "      "));
  }
  return out;
}

constexpr std::size_t kOptionColumn = 28;

std::string options_text(const CommandRow& row, const Paint& paint) {
  std::string out;
  for (const Section section : sections()) {
    std::string lines;
    for (const OptionRow& one : row.options)
      if (one.section == section)
        lines += beside(one.title(), one.explained(), kOptionColumn, paint);
    if (!lines.empty()) out += "\n" + paint.heading(section_title(section)) + "\n" + lines;
  }
  return out;
}

std::string exits_text(const Paint& paint) {
  std::string out = "\n" + paint.heading("Exit codes") + "\n";
  for (const ExitMeaning& one : kExits)
    out += fmt::format("  {:>3}  {}\n", one.code, one.about);
  return out;
}

}  // namespace

std::span<const ExitMeaning> exit_meanings() {
  return kExits;
}

std::string tasks_text(const Paint& paint) {
  std::string out =
      paint.heading("Wexlo: boot images out of firmware, patched, and ready to flash") +
      "\n\nWhat brings you here?\n";
  for (const Task& one : tasks())
    out += fmt::format("\n  {}\n      {}\n      {}\n", one.title, paint.good(one.first),
                       paint.faint(fmt::format("more: wexlo help {}", one.name)));
  return out +
         "\nwexlo help lists all commands. wexlo demo shows the whole job on a made-up phone.\n";
}

std::string overview_text(const CommandTable& table, const Paint& paint) {
  constexpr std::size_t kColumn = 14;
  std::string out =
      "wexlo [options] COMMAND ...\n\n" + paint.heading("Tasks") + "  (wexlo help TASK)\n";
  for (const Task& one : tasks())
    out += beside(one.name, one.title, kColumn, paint);
  std::string_view group;
  for (const CommandPage& page : command_pages()) {
    if (table.find(page.name) == nullptr) continue;
    if (page.group != group)
      out += fmt::format("\n{}{}\n", paint.heading(page.group),
                         group.empty() ? "  (wexlo help COMMAND)" : "");
    group = page.group;
    out += beside(page.name, page.title, kColumn, paint);
  }
  out += "\n" + paint.heading("For every command") + "\n";
  for (const OptionRow& one : table.globals)
    out += beside(one.title(), one.explained(), kOptionColumn, paint);
  return out + exits_text(paint);
}

std::string task_text(const Task& task, const Paint& paint) {
  std::string out =
      paint.heading(task.title) + "\n\n" + filled(task.about, page_width(paint), "  ") + "\n";
  out += examples_text(task.steps, paint);
  return out + fmt::format("\nMore: {}\n", task.see);
}

std::string command_text(const CommandTable& table, const CommandRow& row, const Paint& paint) {
  const CommandPage& page = *row.page;
  std::string out = paint.heading(fmt::format("wexlo {}: {}", page.name, page.title)) + "\n\n" +
                    filled(row.usage(), page_width(paint), "      ", "  ") + "\n" +
                    filled(page.purpose, page_width(paint), "  ");
  out += "\n" + paint.heading("Examples") + "\n" + examples_text(page.examples, paint);
  if (!row.operands.empty()) {
    out += "\n" + paint.heading("What it works on") + "\n";
    for (const OperandRow& one : row.operands)
      out += beside(one.name, one.about, kOptionColumn, paint);
  }
  out += options_text(row, paint);
  std::string globals;
  for (const OptionRow& one : table.globals)
    globals += one.name + " ";
  out += "\n" + paint.heading("For every command") + "  (wexlo help explains them)\n" +
         filled(globals, page_width(paint), "  ");
  return out + exits_text(paint) + fmt::format("\nMore: {}\n", page.see);
}

Json task_json(const Task& task) {
  Json steps = Json::array();
  for (const Example& one : task.steps)
    steps.push_back({{"line", one.line}, {"about", one.about}});
  return {{"name", task.name},   {"title", task.title}, {"first", task.first},
          {"about", task.about}, {"steps", steps},      {"see", task.see}};
}

Json tasks_json() {
  Json out = Json::array();
  for (const Task& one : tasks())
    out.push_back(task_json(one));
  return out;
}

Json options_json(const std::vector<OptionRow>& rows) {
  Json out = Json::array();
  for (const OptionRow& one : rows)
    out.push_back({{"name", one.name},
                   {"brief", one.brief.empty() ? Json() : Json(one.brief)},
                   {"value", one.is_flag() ? Json() : Json(one.value)},
                   {"about", one.about},
                   {"section", section_title(one.section)},
                   {"needed", one.needed},
                   {"repeats", one.repeats}});
  return out;
}

Json command_json(const CommandRow& row) {
  const CommandPage& page = *row.page;
  Json examples = Json::array(), operands = Json::array();
  for (const Example& one : page.examples)
    examples.push_back({{"line", one.line}, {"about", one.about}});
  for (const OperandRow& one : row.operands)
    operands.push_back(
        {{"name", one.name}, {"about", one.about}, {"needed", one.needed}, {"many", one.many}});
  return {{"name", page.name},       {"group", page.group},
          {"title", page.title},     {"usage", row.usage()},
          {"purpose", page.purpose}, {"examples", examples},
          {"operands", operands},    {"options", options_json(row.options)},
          {"see", page.see}};
}

namespace {

struct HelpArguments {
  std::vector<std::string> topic;
  std::string man;
  bool force = false;
};

Json overview_json(const CommandTable& table) {
  Json commands = Json::array();
  for (const CommandRow& row : table.commands)
    commands.push_back(command_json(row));
  return {
      {"tasks", tasks_json()}, {"commands", commands}, {"options", options_json(table.globals)}};
}

Result<Reply> write_pages(const CommandTable& table, const HelpArguments& options) {
  namespace fs = std::filesystem;
  const Overwrite overwrite = options.force ? Overwrite::Replace : Overwrite::Refuse;
  std::vector<const CommandRow*> rows{nullptr};
  for (const CommandRow& row : table.commands)
    rows.push_back(&row);
  Reply reply;
  reply.result["pages"] = Json::array();
  for (const CommandRow* row : rows) {
    const fs::path file = fs::path(options.man) / man_name(row);
    WEXLO_CHECK(write_file(file, as_view(man_page(table, row)), overwrite));
    reply.result["pages"].push_back(file.string());
  }
  reply.text = fmt::format("{} man pages in {}\n", rows.size(), options.man);
  return reply;
}

Result<Reply> run_help(const CommandTable& table, const HelpArguments& options,
                       const Session& session) {
  if (!options.man.empty()) return write_pages(table, options);
  Reply reply;
  std::string topic;
  for (const std::string& word : options.topic)
    topic += (topic.empty() ? "" : " ") + word;
  if (topic.empty()) {
    reply.result = overview_json(table);
    reply.text = overview_text(table, session.paint);
    return reply;
  }
  if (const Task* const task = find_task(topic)) {
    reply.result = task_json(*task);
    reply.text = task_text(*task, session.paint);
    return reply;
  }
  std::vector<std::string> names;
  for (const Task& one : tasks())
    names.emplace_back(one.name);
  for (const CommandRow& row : table.commands) {
    names.push_back(row.name());
    // "keys" is the start of two: both are shown.
    if (row.name() != topic && !row.name().starts_with(topic + " ")) continue;
    if (reply.text.empty()) reply.result = command_json(row);
    reply.text += (reply.text.empty() ? "" : "\n") + command_text(table, row, session.paint);
  }
  if (!reply.text.empty()) return reply;
  return fail({.code = ErrorCode::Usage,
               .message = fmt::format("there is no task and no command \"{}\"", topic),
               .hint = did_you_mean(topic, names) + "wexlo help lists both."});
}

}  // namespace

void add_help(Commands& commands, Session& session, int& exit_code) {
  auto options = std::make_shared<HelpArguments>();
  Command(commands, "help")
      .operand("TOPIC", options->topic, "A task or a command; none: the list", Need::Optional)
      .option("--man", "DIR", options->man, "Write the man pages of all commands into this folder")
      .flag("--force", options->force, "Replace pages that are there already")
      .runs([=, &commands, &session, &exit_code] {
        exit_code = finish(session, "help", run_help(commands.table, *options, session));
      });
}

}  // namespace wexlo::cli
