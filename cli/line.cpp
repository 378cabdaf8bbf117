#include "line.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <map>
#include <optional>

#include "text/nearest.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

std::unexpected<Error> usage(std::string message, std::string hint, std::string expected = {},
                             std::string found = {}) {
  return fail({.code = ErrorCode::Usage,
               .message = std::move(message),
               .expected = std::move(expected),
               .found = std::move(found),
               .hint = std::move(hint)});
}

/// Everyday words for what a command does.
struct Meant {
  std::string_view word, command;
};
constexpr Meant kMeant[] = {
    {"info", "inspect"},   {"show", "inspect"},      {"ls", "extract"},     {"list", "extract"},
    {"root", "prepare"},   {"kit", "prepare"},       {"undo", "restore"},   {"unroot", "restore"},
    {"diff", "compare"},   {"verify", "check"},      {"test", "check"},     {"sign", "seal"},
    {"pack", "repack"},    {"build", "repack"},      {"replace", "insert"}, {"figure", "draw"},
    {"recipe", "recipes"}, {"key", "keys new"},      {"jobs", "batch"},     {"error", "explain"},
    {"code", "explain"},   {"version", "--version"}, {"phone", "sheet"},
};

class Reader {
 public:
  Reader(const CommandTable& table, const std::vector<std::string>& words)
      : table_(table), given_(words) {}

  Result<Line> run() {
    WEXLO_CHECK(find_command());
    WEXLO_CHECK(walk());
    if (line_.help || line_.version || line_.command == nullptr) return std::move(line_);
    WEXLO_CHECK(surplus());
    WEXLO_CHECK(complete());
    return std::move(line_);
  }

 private:
  /// One word of the line, in the order given.
  struct Piece {
    std::string text;
    bool operand = false;
    std::string behind{};  ///< of an operand that follows an option which gathers: its name
  };

  std::string help_hint() const {
    return line_.command == nullptr
               ? "wexlo help lists the commands."
               : fmt::format("wexlo help {} shows what it takes.", line_.command->name());
  }

  std::vector<std::string> command_names() const {
    std::vector<std::string> out;
    for (const CommandRow& one : table_.commands)
      out.push_back(one.name());
    return out;
  }

  /// Whether the word behind this one is its value; the command is not known yet.
  bool takes_next(const std::string& word) const {
    const auto takes = [&](const CommandRow* command) {
      const OptionRow* const row = table_.find_option(command, word);
      return row != nullptr && !row->is_flag();
    };
    return takes(nullptr) ||
           std::ranges::any_of(table_.commands, [&](const CommandRow& one) { return takes(&one); });
  }

  /// The first word that is no option; `keys` goes with the word behind it.
  Status find_command() {
    for (at_ = 0; at_ < given_.size(); ++at_) {
      const std::string& word = given_[at_];
      if (!word.starts_with('-') || word == "-") break;
      if (takes_next(word)) ++at_;
    }
    if (at_ >= given_.size()) return {};
    const std::string& word = given_[at_];
    line_.command = table_.find(word);
    length_ = 1;
    if (line_.command == nullptr && at_ + 1 < given_.size()) {
      line_.command = table_.find(word + " " + given_[at_ + 1]);
      length_ = 2;
    }
    return line_.command != nullptr ? Status{} : unknown_command(word);
  }

  Status unknown_command(const std::string& word) const {
    std::vector<std::string> twins;
    for (const std::string& one : command_names())
      if (one.starts_with(word + " ")) twins.push_back(one);
    const std::string next = at_ + 1 < given_.size() ? given_[at_ + 1] : "";
    if (!twins.empty() && next != "--help" && next != "-h")
      return usage(fmt::format("{} is not complete", word),
                   fmt::format("wexlo help {} shows both.", word),
                   fmt::format("{}", fmt::join(twins, " or ")), next.empty() ? word : next);
    const auto known = std::ranges::find(kMeant, word, &Meant::word);
    std::string advice = did_you_mean(word, command_names());
    if (advice.empty() && known != std::end(kMeant))
      advice = fmt::format("Did you mean \"{}\"? ", known->command);
    return usage(fmt::format("no command is called \"{}\"", word), advice + help_hint());
  }

  std::vector<std::string> option_names() const {
    std::vector<std::string> out{"--help"};
    for (const OptionRow& one : table_.globals)
      out.push_back(one.name);
    if (line_.command != nullptr)
      for (const OptionRow& one : line_.command->options)
        out.push_back(one.name);
    return out;
  }

  Status unknown_option(const std::string& word) const {
    std::string advice = did_you_mean(word, option_names());
    // -output for --output, --o for -o
    if (advice.empty() && table_.find_option(line_.command, "-" + word) != nullptr)
      advice = fmt::format("Did you mean \"-{}\"? ", word);
    if (advice.empty()) advice = did_you_mean("-" + word, option_names());
    if (advice.empty())
      for (const CommandRow& one : table_.commands)
        if (&one != line_.command && table_.find_option(&one, word) != nullptr) {
          advice = fmt::format("wexlo {} has it. ", one.name());
          break;
        }
    return usage(line_.command == nullptr
                     ? fmt::format("there is no option {}", word)
                     : fmt::format("{} has no option {}", line_.command->name(), word),
                 advice + help_hint());
  }

  Status walk() {
    bool plain = false;  // behind "--" every word is an operand
    for (std::size_t i = 0; i < given_.size(); ++i) {
      const std::string& word = given_[i];
      if (line_.command != nullptr && i == at_) {
        i += length_ - 1;
        continue;
      }
      if (plain || !word.starts_with('-') || word == "-") {
        add_operand(word);
      } else if (word == "--") {
        plain = true;
      } else if (word.starts_with("--")) {
        WEXLO_CHECK(long_option(word, i));
      } else {
        WEXLO_CHECK(short_options(word, i));
      }
    }
    return {};
  }

  void add_operand(const std::string& word) {
    std::string behind = after_;
    if (behind.empty() && !pieces_.empty()) behind = pieces_.back().behind;
    pieces_.push_back({word, true, std::move(behind)});
    after_.clear();
    ++operands_;
  }

  Status long_option(const std::string& word, std::size_t& i) {
    const std::size_t equals = word.find('=');
    const std::string name = word.substr(0, equals);
    if (name == "--help" || name == "--version") {
      (name == "--help" ? line_.help : line_.version) = true;
      return {};
    }
    const OptionRow* const row = table_.find_option(line_.command, name);
    if (row == nullptr) return unknown_option(name);
    if (equals == word.npos) return take(*row, std::nullopt, i);
    if (row->is_flag())
      return usage(fmt::format("{} takes no value", name), help_hint(), "",
                   word.substr(equals + 1));
    return take(*row, word.substr(equals + 1), i);
  }

  /// `-q`, `-oDIR`, `-qv`
  Status short_options(const std::string& word, std::size_t& i) {
    // One dash too few: "-recipe" is not -r with the value "ecipe".
    if (word.size() > 3 && table_.find_option(line_.command, "-" + word) != nullptr)
      return unknown_option(word);
    for (std::size_t at = 1; at < word.size(); ++at) {
      const std::string name = fmt::format("-{}", word[at]);
      if (name == "-h" || name == "-V") {
        (name == "-h" ? line_.help : line_.version) = true;
        continue;
      }
      const OptionRow* const row = table_.find_option(line_.command, name);
      if (row == nullptr) return unknown_option(word.size() == 2 || at > 1 ? name : word);
      if (row->is_flag()) {
        WEXLO_CHECK(take(*row, std::nullopt, i));
        continue;
      }
      if (at + 1 < word.size()) return take(*row, word.substr(at + 1), i);
      return take(*row, std::nullopt, i);
    }
    return {};
  }

  Status take(const OptionRow& row, std::optional<std::string> value, std::size_t& i) {
    if (++counts_[&row] > 1 && !row.repeats && !row.is_flag())
      return usage(fmt::format("{} was given twice", row.name), "Give it once.");
    after_.clear();
    if (row.is_flag()) {
      pieces_.push_back({row.name});
      return {};
    }
    if (!value) {
      // The next word is the value unless it is an option's name: nobody means that for a file.
      const bool there =
          i + 1 < given_.size() && table_.find_option(line_.command, given_[i + 1]) == nullptr;
      if (!there)
        return usage(fmt::format("{} needs {}", row.name, row.value),
                     fmt::format("{}. {}", row.about, help_hint()));
      value = given_[++i];
    }
    // A script's variable that is empty: a file that is not given. The library would take the next
    // word for the value.
    if (value->empty()) {
      const WordKind kind = word_kind(row.value);
      if (kind == WordKind::Text || kind == WordKind::Given)
        return usage(fmt::format("{} was given an empty value", row.name),
                     fmt::format("{}. {}", row.about, help_hint()), row.value);
      counts_.erase(&row);
      return {};
    }
    if (!row.choices.empty() && std::ranges::find(row.choices, *value) == row.choices.end())
      return usage(fmt::format("{} does not know this value", row.name),
                   did_you_mean(*value, row.choices) + "Give one of these words.",
                   fmt::format("{}", fmt::join(row.choices, ", ")), *value);
    pieces_.push_back({row.name + "=" + *value});
    after_ = row.gathers ? row.name : "";
    return {};
  }

  /// Gives the words that the command has no place for to the options that gather them.
  Status surplus() {
    std::size_t most = 0;
    for (const OperandRow& one : line_.command->operands)
      most = one.many ? pieces_.size() + 1 : most + 1;
    for (Piece& one : pieces_) {
      if (operands_ <= most) break;
      if (!one.operand || one.behind.empty()) continue;
      one = {one.behind + "=" + one.text};
      --operands_;
    }
    if (operands_ <= most) return {};
    const auto last = std::ranges::find_if(pieces_.rbegin(), pieces_.rend(), &Piece::operand);
    return usage(most == 0 ? fmt::format("{} takes options alone", line_.command->name())
                           : fmt::format("{} takes {} here, not {}", line_.command->name(),
                                         counted(most, "name"), operands_),
                 fmt::format("wexlo help {} shows what it takes; a name with blanks in it stands "
                             "in quotes.",
                             line_.command->name()),
                 "", last->text);
  }

  /// Two options that contradict each other, among those of the command and the global ones.
  Status contradictions(const std::vector<OptionRow>& rows) const {
    for (const OptionRow& one : rows)
      for (const std::string& other : one.excludes)
        if (counts_.contains(&one) && counts_.contains(table_.find_option(line_.command, other)))
          return usage(fmt::format("{} and {} contradict each other", one.name, other),
                       "Give one of them.");
    return {};
  }

  Status complete() {
    std::size_t left = operands_;
    for (const OperandRow& one : line_.command->operands) {
      if (left == 0 && one.needed)
        return usage(fmt::format("{} needs {}", line_.command->name(), one.name),
                     fmt::format("{}. {}", one.about, help_hint()));
      left -= left > 0 ? 1 : 0;
    }
    for (const OptionRow& one : line_.command->options)
      if (one.needed && !counts_.contains(&one))
        return usage(fmt::format("{} needs {}", line_.command->name(), one.title()),
                     fmt::format("{}. {}", one.about, help_hint()));
    WEXLO_CHECK(contradictions(line_.command->options));
    WEXLO_CHECK(contradictions(table_.globals));
    write();
    return {};
  }

  void write() {
    line_.words.push_back(joined_name(line_.command->page->name));
    for (const Piece& one : pieces_)
      if (!one.operand) line_.words.push_back(one.text);
    // Options first: a name that begins with a dash is an operand there.
    if (operands_ > 0) line_.words.emplace_back("--");
    for (const Piece& one : pieces_)
      if (one.operand) line_.words.push_back(one.text);
  }

  const CommandTable& table_;
  const std::vector<std::string>& given_;
  Line line_;
  std::size_t at_ = 0, length_ = 0;  ///< the command's words
  std::vector<Piece> pieces_;
  std::map<const OptionRow*, int> counts_;
  std::size_t operands_ = 0;
  std::string after_;  ///< the option which gathers, where its value was read last
};

}  // namespace

Result<Line> read_line(const CommandTable& table, const std::vector<std::string>& words) {
  return Reader(table, words).run();
}

}  // namespace wexlo::cli
