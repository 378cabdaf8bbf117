/// Completion: the words that could stand at the end of a command line, from the table of commands,
/// and the scripts by which shells ask for them.

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "base/error_table.hpp"
#include "base/finding.hpp"
#include "commands.hpp"
#include "firmware/formats.hpp"
#include "options.hpp"
#include "recipe/recipe.hpp"
#include "reply.hpp"
#include "tasks.hpp"

namespace wexlo::cli {
namespace {

/// What a shell has to do beside the words: offer names of files.
struct Completion {
  std::vector<std::string> words;
  bool files = false, folders = false;
};

class Completer {
 public:
  Completer(const CommandTable& table, const Session& session,
            const std::vector<std::string>& words)
      : table_(table), session_(session), given_(words) {
    if (given_.empty()) given_.emplace_back();
  }

  Completion run() {
    const std::string last = given_.back();
    walk();
    if (pending_ != nullptr) {
      value(pending_->value, pending_->choices, last);
    } else if (last.starts_with("--") && last.find('=') != last.npos) {
      const std::size_t equals = last.find('=');
      if (const OptionRow* row = table_.find_option(command_, last.substr(0, equals)))
        value(row->value, row->choices, last.substr(equals + 1), last.substr(0, equals + 1));
    } else if (last.starts_with("-")) {
      options(last);
    } else if (command_ == nullptr) {
      for (const CommandRow& one : table_.commands)
        offer_command(one, last);
    } else {
      operand(last);
    }
    std::ranges::sort(out_.words);
    out_.words.erase(std::ranges::unique(out_.words).begin(), out_.words.end());
    return std::move(out_);
  }

 private:
  void walk() {
    for (std::size_t i = 0; i + 1 < given_.size(); ++i) {
      const std::string& word = given_[i];
      if (pending_ != nullptr) {
        pending_ = nullptr;
      } else if (word.starts_with("-") && word.size() > 1) {
        if (const OptionRow* row = table_.find_option(command_, word); row && !row->is_flag())
          pending_ = row;
      } else if (command_ != nullptr) {
        operands_.push_back(word);
      } else {
        command_ = table_.find(first_.empty() ? word : first_ + " " + word);
        first_ = word;
      }
    }
  }

  void offer(const std::string& word, const std::string& begun, const std::string& before = {}) {
    if (word.starts_with(begun)) out_.words.push_back(before + word);
  }

  /// "keys new" is completed word by word.
  void offer_command(const CommandRow& row, const std::string& begun) {
    const std::string name = row.name();
    const std::size_t blank = name.find(' ');
    if (first_.empty())
      offer(name.substr(0, blank), begun);
    else if (blank != name.npos && name.substr(0, blank) == first_)
      offer(name.substr(blank + 1), begun);
  }

  void options(const std::string& begun) {
    if (command_ != nullptr)
      for (const OptionRow& one : command_->options)
        offer(one.name, begun);
    for (const OptionRow& one : table_.globals)
      offer(one.name, begun);
  }

  void operand(const std::string& begun) {
    const auto& rows = command_->operands;
    if (rows.empty()) return;
    const std::size_t at = std::min(operands_.size(), rows.size() - 1);
    if (operands_.size() >= rows.size() && !rows.back().many) return;
    value(rows[at].name, {}, begun);
  }

  void value(const std::string& kind, const std::vector<std::string>& choices,
             const std::string& begun, const std::string& before = {}) {
    for (const std::string& one : choices)
      offer(one, begun, before);
    switch (word_kind(kind)) {
      case WordKind::Folder: out_.folders = true; break;
      case WordKind::File: out_.files = true; break;
      case WordKind::Recipe:
        for (const BundledRecipe& one : bundled_recipes())
          offer("@" + one.name, begun, before);
        out_.files = kind == "RECIPE" && !begun.starts_with("@");
        break;
      case WordKind::Partition: partitions(begun, before, ""); break;
      case WordKind::Given:
        if (begun.find('=') == begun.npos)
          partitions(begun, before, "=");
        else
          out_.files = true;
        break;
      case WordKind::AnyCode:
        for (const ErrorKind& one : error_kinds())
          offer(std::string(one.name), begun, before);
        [[fallthrough]];
      case WordKind::Code:
        for (const FindingKind& one : finding_kinds())
          offer(std::string(one.name), begun, before);
        break;
      case WordKind::Topic:
        for (const Task& one : tasks())
          offer(std::string(one.name), begun, before);
        first_.clear();
        for (const CommandRow& one : table_.commands)
          offer_command(one, begun);
        break;
      case WordKind::Choice:
      case WordKind::Text: break;
    }
  }

  /// Of the firmware that stands on the line. A package on a web server is not asked: completion
  /// has to be quick, and nobody pressed Enter yet.
  void partitions(const std::string& begun, const std::string& before, const std::string& behind) {
    for (const std::string& path : operands_) {
      std::error_code error;
      if (!std::filesystem::exists(path, error)) continue;
      const auto firmware = open_firmware(path, {.context = session_.context});
      if (!firmware) return;
      for (const PartitionFacts& one : (*firmware)->partitions)
        offer(one.name + behind, begun, before);
      return;
    }
  }

  const CommandTable& table_;
  const Session& session_;
  std::vector<std::string> given_, operands_;
  const CommandRow* command_ = nullptr;
  const OptionRow* pending_ = nullptr;
  std::string first_;
  Completion out_;
};

// The scripts ask the program for words; a last line "files" or "folders" says what the shell adds.

constexpr std::string_view kBash = R"sh(# Completion of wexlo for bash.
_wexlo() {
  local words line kind=
  local current=${COMP_WORDS[COMP_CWORD]}
  mapfile -t words < <(wexlo complete -- "${COMP_WORDS[@]:1:COMP_CWORD}" 2>/dev/null)
  COMPREPLY=()
  for line in "${words[@]}"; do
    case $line in
      '/files' | '/folders') kind=$line ;;
      *) COMPREPLY+=("$line") ;;
    esac
  done
  case $kind in
    /files) mapfile -t -O "${#COMPREPLY[@]}" COMPREPLY < <(compgen -f -- "$current") ;;
    /folders) mapfile -t -O "${#COMPREPLY[@]}" COMPREPLY < <(compgen -d -- "$current") ;;
  esac
  [ -z "$kind" ] || compopt -o filenames 2>/dev/null
  [ "${#COMPREPLY[@]}" -ne 1 ] || [[ ${COMPREPLY[0]} != *= ]] || compopt -o nospace 2>/dev/null
}
complete -F _wexlo wexlo
)sh";

constexpr std::string_view kZsh = R"sh(#compdef wexlo
# Completion of wexlo for zsh.
_wexlo() {
  local -a answer
  local kind=
  answer=("${(@f)$(wexlo complete -- "${(@)words[2,CURRENT]}" 2>/dev/null)}")
  case ${answer[-1]} in
    /files | /folders)
      kind=${answer[-1]}
      answer=("${(@)answer[1,-2]}")
      ;;
  esac
  answer=("${(@)answer:#}")
  (( ${#answer} )) && compadd -Q -a answer
  case $kind in
    /files) _files ;;
    /folders) _files -/ ;;
  esac
}
compdef _wexlo wexlo
)sh";

constexpr std::string_view kFish = R"sh(# Completion of wexlo for fish.
function __wexlo_words
    set -l words (commandline -opc)
    set -l current (commandline -ct)
    for line in (wexlo complete -- $words[2..-1] "$current" 2>/dev/null)
        switch $line
            case /files
                __fish_complete_path "$current"
            case /folders
                __fish_complete_directories "$current"
            case '*'
                echo $line
        end
    end
end
complete -c wexlo -f -a '(__wexlo_words)'
)sh";

struct CompleteArguments {
  std::vector<std::string> words;
  std::string script;
};

Reply run_complete(const CommandTable& table, const CompleteArguments& options,
                   const Session& session) {
  Reply reply;
  reply.as_it_is = true;
  if (!options.script.empty()) {
    reply.text = options.script == "bash" ? kBash : options.script == "zsh" ? kZsh : kFish;
    reply.result["script"] = reply.text;
    return reply;
  }
  const Completion found = Completer(table, session, options.words).run();
  reply.result = {{"words", found.words}, {"files", found.files}, {"folders", found.folders}};
  for (const std::string& one : found.words)
    reply.text += one + "\n";
  if (found.files) reply.text += "/files\n";
  if (found.folders) reply.text += "/folders\n";
  return reply;
}

}  // namespace

void add_complete(Commands& commands, Session& session, int& exit_code) {
  auto options = std::make_shared<CompleteArguments>();
  Command(commands, "complete")
      .operand("WORD", options->words,
               "The words behind wexlo, the last one begun; behind -- where they hold options",
               Need::Optional)
      .choice("--script", {"bash", "zsh", "fish"}, options->script,
              "Print the script for this shell instead")
      .runs([=, &commands, &session, &exit_code] {
        exit_code = finish(session, "complete", run_complete(commands.table, *options, session));
      });
}

}  // namespace wexlo::cli
