/// Man pages, made from the table of commands.

#include <fmt/format.h>

#include <algorithm>

#include "help.hpp"

namespace wexlo::cli {
namespace {

/// Text that means itself to the formatter.
std::string roff(std::string_view text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    const char one = text[i];
    if (one == '\\')
      out += "\\e";
    else if (one == '-')
      out += "\\-";
    else if ((one == '.' || one == '\'') && (out.empty() || out.back() == '\n'))
      out += std::string("\\&") + one;
    else
      out += one;
  }
  return out;
}

std::string term(const std::string& title, std::string_view about) {
  return fmt::format(".TP\n\\fB{}\\fR\n{}\n", roff(title), roff(about));
}

std::string examples(std::span<const Example> rows) {
  std::string out = ".SH EXAMPLES\n";
  for (const Example& one : rows)
    out += fmt::format(".TP\n\\fB{}\\fR\n{}\n", roff(one.line), roff(one.about));
  return out;
}

std::string exits() {
  std::string out = ".SH EXIT STATUS\n";
  for (const ExitMeaning& one : exit_meanings())
    out += term(fmt::format("{}", one.code), one.about);
  return out;
}

std::string head(const std::string& name, std::string_view title) {
  std::string capitals = name;
  std::ranges::transform(capitals, capitals.begin(),
                         [](unsigned char one) { return static_cast<char>(std::toupper(one)); });
  return fmt::format(".TH {} 1 \"\" \"wexlo {}\" \"Wexlo\"\n.nh\n.ad l\n.SH NAME\n{} \\- {}\n",
                     roff(capitals), WEXLO_VERSION, roff(name), roff(title));
}

std::string page_base(const CommandRow& row) {
  return "wexlo-" + joined_name(row.page->name);
}

std::string option_terms(const std::vector<OptionRow>& rows, Section section, bool all) {
  std::string out;
  for (const OptionRow& one : rows) {
    if (!all && one.section != section) continue;
    out += term(one.title(), one.explained());
  }
  return out;
}

std::string program_page(const CommandTable& table) {
  std::string out = head("wexlo", "boot images out of firmware, patched, and ready to flash");
  out += ".SH SYNOPSIS\n.B wexlo\n[options]\n.I COMMAND\n\\&...\n.SH DESCRIPTION\n";
  out +=
      "One command line tool for boot and init_boot images: takes them out of firmware, patches "
      "them by recipes, proves what changed, and makes a kit ready to flash. It needs no root "
      "rights, no phone and no network.\n";
  std::string_view group;
  for (const CommandPage& page : command_pages()) {
    const CommandRow* const row = table.find(page.name);
    if (row == nullptr) continue;
    if (page.group != group) out += fmt::format(".SS {}\n", roff(page.group));
    group = page.group;
    out += term(page_base(*row) + "(1)", page.title);
  }
  out += ".SH TASKS\n";
  for (const Task& one : tasks())
    out += term(fmt::format("wexlo help {}", one.name), one.title);
  out += ".SH OPTIONS\n" + option_terms(table.globals, Section::Main, true) + exits();
  return out +
         ".SH FILES\n.TP\n.I $XDG_CONFIG_HOME/wexlo/config.toml\nSettings, then the "
         "environment (WEXLO_...), then options.\n";
}

}  // namespace

std::string man_name(const CommandRow* row) {
  return (row == nullptr ? "wexlo" : page_base(*row)) + ".1";
}

std::string man_page(const CommandTable& table, const CommandRow* row) {
  if (row == nullptr) return program_page(table);
  const CommandPage& page = *row->page;
  std::string out = head(page_base(*row), page.title);
  out += fmt::format(".SH SYNOPSIS\n{}\n.SH DESCRIPTION\n{}\n", roff(row->usage()),
                     roff(page.purpose));
  out += examples(page.examples);
  if (!row->operands.empty()) out += ".SH OPERANDS\n";
  for (const OperandRow& one : row->operands)
    out += term(one.name, one.about);
  out += ".SH OPTIONS\n";
  for (const Section section : sections()) {
    const std::string terms = option_terms(row->options, section, false);
    if (!terms.empty()) out += fmt::format(".SS {}\n{}", roff(section_title(section)), terms);
  }
  out += ".SS For every command\n" + option_terms(table.globals, Section::Main, true) + exits();
  return out + fmt::format(".SH SEE ALSO\n.BR wexlo (1),\n{}\n", roff(page.see));
}

}  // namespace wexlo::cli
