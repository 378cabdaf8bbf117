#pragma once
/// The table of commands and their options: help, man pages, completion, "did you mean" and the
/// checks of a command line are all made from it. Commands add their rows by options.hpp.

#include <deque>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace wexlo::cli {

/// What a word on the command line names, for completion.
enum class WordKind {
  Text,       ///< nothing to offer
  File,       ///< a file or folder
  Folder,     ///< a folder
  Recipe,     ///< a file, or @NAME
  Partition,  ///< of the firmware that stands before it
  Given,      ///< PARTITION=FILE
  Code,       ///< of a finding
  AnyCode,    ///< of a finding or an error
  Topic,      ///< a command or a task
  Choice,     ///< one of the row's choices
};
/// By the name that the help gives a value: "DIR" is a folder.
[[nodiscard]] WordKind word_kind(std::string_view value);

/// Headings of a command's options in its help; in this order.
enum class Section { Main, Recipes, Phone, Firmware, Signing, Judging, Output };
[[nodiscard]] std::string_view section_title(Section section);
[[nodiscard]] std::span<const Section> sections();

struct OperandRow {
  std::string name, about;
  bool needed = false, many = false;
};

struct OptionRow {
  std::string brief;  ///< "-o"; empty: there is none
  std::string name;   ///< "--output"
  std::string value;  ///< what its value is, "DIR"; empty: a flag
  std::string about;
  Section section = Section::Main;
  bool needed = false, repeats = false;
  /// Words behind its value that the command has no other place for are its values, too: `-r A B`.
  bool gathers = false;
  std::vector<std::string> choices{};
  std::string fallback{};               ///< of a choice; empty: none
  std::vector<std::string> excludes{};  ///< names of options that contradict it
  [[nodiscard]] bool is_flag() const { return value.empty(); }
  /// `-o, --output DIR`
  [[nodiscard]] std::string title() const;
  /// What it is for, with what it is without being given, and whether it may be given again.
  [[nodiscard]] std::string explained() const;
};

/// A command line to copy, and what it does.
struct Example {
  std::string_view line, about;
};

/// What is written of a command besides its options: command_pages.cpp.
struct CommandPage {
  std::string_view name;  ///< "keys new"
  std::string_view group;
  std::string_view title;    ///< one clause for lists
  std::string_view purpose;  ///< a few sentences
  std::span<const Example> examples;
  std::string_view see;  ///< the page to read
};
[[nodiscard]] std::span<const CommandPage> command_pages();
/// "keys-new": as one word, for the parser and for man pages.
[[nodiscard]] std::string joined_name(std::string_view name);
/// nullptr: no command is called so.
[[nodiscard]] const CommandPage* find_page(std::string_view name);

struct CommandRow {
  const CommandPage* page;
  std::vector<OperandRow> operands{};
  std::vector<OptionRow> options{};
  [[nodiscard]] std::string name() const { return std::string(page->name); }
  /// `wexlo extract FIRMWARE [PARTITION...] -o DIR [options]`
  [[nodiscard]] std::string usage() const;
};

struct CommandTable {
  std::vector<OptionRow> globals;
  std::deque<CommandRow> commands;  ///< rows stay where they are
  [[nodiscard]] const CommandRow* find(std::string_view name) const;
  /// An option of the command or a global one, by either spelling.
  [[nodiscard]] const OptionRow* find_option(const CommandRow* command,
                                             std::string_view name) const;
};

}  // namespace wexlo::cli
