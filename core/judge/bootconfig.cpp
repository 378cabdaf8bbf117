/// The kernel's grammar of a bootconfig, as far as it decides whether the whole is thrown away:
/// docs/formats/boot.md.

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <set>

#include "judge/subject.hpp"

namespace wexlo {
namespace {

constexpr std::size_t kMaxText = 32767, kMaxNodes = 8192, kMaxDepth = 16, kMaxWord = 255;

class Parser {
 public:
  explicit Parser(std::string_view text) : text_(text) {}

  std::string run() {
    if (text_.size() > kMaxText)
      return fmt::format("{} bytes, kernels take {}", text_.size(), kMaxText);
    while (trouble_.empty() && skip_blank()) {
      if (text_[at_] == '}')
        close();
      else
        statement();
    }
    if (trouble_.empty() && !open_.empty())
      stop(fmt::format("the {{ of line {} is never closed", open_.back().line));
    return std::move(trouble_);
  }

 private:
  struct Group {
    std::size_t line, depth;
    std::string name;
  };

  void stop(std::string why) {
    if (trouble_.empty()) trouble_ = fmt::format("line {}: {}", line_, why);
  }

  /// Over blanks, line ends, `;` and comments. @return whether something is left
  bool skip_blank() {
    for (; at_ < text_.size(); ++at_) {
      const char c = text_[at_];
      if (c == '#') {
        at_ = std::min(text_.find('\n', at_), text_.size());
        if (at_ == text_.size()) return false;
      }
      if (text_[at_] == '\n')
        ++line_;
      else if (!std::isspace(static_cast<unsigned char>(text_[at_])) && text_[at_] != ';' &&
               text_[at_] != '\0')
        return true;
    }
    return false;
  }
  void skip_spaces() {
    while (at_ < text_.size() && (text_[at_] == ' ' || text_[at_] == '\t' || text_[at_] == '\r'))
      ++at_;
  }

  void close() {
    if (open_.empty()) return stop("a } without its {");
    prefix_.resize(prefix_.size() - open_.back().name.size());
    depth_ = open_.back().depth;
    open_.pop_back();
    ++at_;
  }

  static bool is_word(char c) {
    return std::isalnum(static_cast<unsigned char>(c)) || c == '-' || c == '_' || c == '.';
  }

  /// `key = value`, `key { … }`, or a key alone.
  void statement() {
    const std::size_t begin = at_;
    while (at_ < text_.size() && is_word(text_[at_]))
      ++at_;
    const std::string key(text_.substr(begin, at_ - begin));
    if (key.empty()) return stop(fmt::format("a key cannot begin with \"{}\"", text_[at_]));
    const std::size_t words = count_words(key);
    if (words == 0) return;
    if (depth_ + words > kMaxDepth) return stop(fmt::format("deeper than {} levels", kMaxDepth));
    skip_spaces();
    const char next = at_ < text_.size() ? text_[at_] : '\n';
    if (next == '{') {
      open_.push_back({line_, depth_, key + "."});
      prefix_ += key + ".";
      depth_ += words;
      ++at_;
      return;
    }
    const bool add = next == '+' || next == ':';
    if (add && (at_ + 1 >= text_.size() || text_[at_ + 1] != '='))
      return stop(fmt::format("\"{}\" without its =", next));
    if (next == '=' || add) {
      at_ += add ? 2 : 1;
      value(prefix_ + key, add);
    } else if (next != '\n' && next != ';' && next != '}' && next != '#' && next != '\0') {
      stop(fmt::format("\"{}\" behind the key {}", next, key));
    }
  }

  /// @return 0: trouble
  std::size_t count_words(std::string_view key) {
    std::size_t words = 0;
    while (true) {
      const std::size_t end = std::min(key.find('.'), key.size());
      if (end == 0 || end > kMaxWord) {
        stop(end == 0 ? "a key with an empty word" : "a key's word longer than 255 letters");
        return 0;
      }
      ++words;
      if (++nodes_ > kMaxNodes) {
        stop(fmt::format("more than {} nodes", kMaxNodes));
        return 0;
      }
      if (end == key.size()) return words;
      key.remove_prefix(end + 1);
    }
  }

  /// One value, or an array of them.
  void value(const std::string& key, bool add) {
    if (!add && !keys_.insert(key).second) return stop(fmt::format("{} is set twice", key));
    while (trouble_.empty()) {
      skip_spaces();
      if (at_ < text_.size() && (text_[at_] == '"' || text_[at_] == '\''))
        quoted();
      else
        plain();
      if (++nodes_ > kMaxNodes) return stop(fmt::format("more than {} nodes", kMaxNodes));
      skip_spaces();
      if (at_ >= text_.size() || text_[at_] != ',') break;
      ++at_;
      // An array may go on in the next line.
      (void)skip_blank();
    }
    if (!trouble_.empty() || at_ >= text_.size()) return;
    const char end = text_[at_];
    if (end != '\n' && end != ';' && end != '}' && end != '#' && end != '\0')
      stop(fmt::format("\"{}\" behind a value", end));
  }

  void quoted() {
    const std::size_t end = text_.find(text_[at_], at_ + 1);
    if (end == std::string_view::npos) return stop("a quote is never closed");
    line_ += static_cast<std::size_t>(std::ranges::count(text_.substr(at_, end - at_), '\n'));
    at_ = end + 1;
  }
  void plain() {
    constexpr std::string_view kEnds = ",;\n}#\"'";
    const std::size_t end = std::min(text_.find_first_of(kEnds, at_), text_.size());
    const auto word = text_.substr(at_, end - at_);
    const auto odd = std::ranges::find_if(
        word, [](unsigned char c) { return c != 0 && !std::isprint(c) && !std::isspace(c); });
    if (odd != word.end()) return stop("a value with a letter that is not printable");
    at_ = end;
  }

  std::string_view text_;
  std::size_t at_ = 0, line_ = 1, nodes_ = 0, depth_ = 0;
  std::vector<Group> open_;
  std::string prefix_;
  std::set<std::string> keys_;
  std::string trouble_;
};

}  // namespace

std::string bootconfig_trouble(std::string_view text) {
  return Parser(text).run();
}

}  // namespace wexlo
