#include "options.hpp"

#include <CLI/CLI.hpp>
#include <stdexcept>

namespace wexlo::cli {
namespace {

CommandRow& new_row(CommandTable& table, std::string_view name) {
  const CommandPage* const page = find_page(name);
  if (page == nullptr) throw std::logic_error("a command has no page");
  return table.commands.emplace_back(CommandRow{page});
}

}  // namespace

Command::Command(Commands& commands, std::string_view name)
    : command_(commands.app.add_subcommand(joined_name(name))),
      row_(&new_row(commands.table, name)) {}

Command& Command::operand(const std::string& name, std::string& value, const std::string& about,
                          Need need) {
  command_->add_option(name, value)->required(need == Need::Required);
  row_->operands.push_back({name, about, need == Need::Required, false});
  return *this;
}

Command& Command::operand(const std::string& name, std::vector<std::string>& values,
                          const std::string& about, Need need) {
  command_->add_option(name, values)->required(need == Need::Required);
  row_->operands.push_back({name, about, need == Need::Required, true});
  return *this;
}

Command& Command::section(Section section) {
  section_ = section;
  return *this;
}

OptionRow& Command::row(const std::string& names, const std::string& type, const std::string& about,
                        Need need) {
  const std::size_t comma = names.find(',');
  OptionRow out{.brief = comma == names.npos ? "" : names.substr(0, comma),
                .name = comma == names.npos ? names : names.substr(comma + 1),
                .value = type,
                .about = about,
                .section = section_,
                .needed = need == Need::Required};
  return row_->options.emplace_back(std::move(out));
}

Command& Command::option(const std::string& names, const std::string& type, std::string& value,
                         const std::string& about, Need need) {
  command_->add_option(names, value)->required(need == Need::Required);
  row(names, type, about, need);
  return *this;
}

Command& Command::option(const std::string& names, const std::string& type,
                         std::vector<std::string>& values, const std::string& about, Need need) {
  command_->add_option(names, values)->required(need == Need::Required)->allow_extra_args(false);
  row(names, type, about, need).repeats = true;
  return *this;
}

Command& Command::gathers() {
  row_->options.back().gathers = true;
  return *this;
}

Command& Command::choice(const std::string& names, const std::vector<std::string>& choices,
                         std::string& value, const std::string& about) {
  command_->add_option(names, value);
  std::string type;
  for (const std::string& one : choices)
    type += (type.empty() ? "" : "|") + one;
  OptionRow& made = row(names, type, about, Need::Optional);
  made.choices = choices;
  made.fallback = value;
  return *this;
}

Command& Command::flag(const std::string& names, bool& value, const std::string& about) {
  command_->add_flag(names, value);
  row(names, "", about, Need::Optional);
  return *this;
}

Command& Command::excludes(const std::string& one, const std::string& other) {
  for (OptionRow& row : row_->options)
    if (row.name == one) row.excludes.push_back(other);
  return *this;
}

void Command::runs(std::function<void()> run) {
  command_->callback(std::move(run));
}

}  // namespace wexlo::cli
