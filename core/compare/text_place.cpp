#include "compare/text_place.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <vector>

#include "text/text.hpp"

namespace wexlo {
namespace {

constexpr std::size_t kMostShown = 72;

/// Follows objects and arrays up to a byte. What is no JSON leads to some place or other, never
/// outside of the text.
class JsonPlace {
 public:
  std::string run(std::string_view text) {
    for (std::size_t at = 0; at < text.size(); ++at) {
      const char c = text[at];
      if (c == '"')
        at = string(text, at);
      else if (c == '{' || c == '[')
        open_.push_back({c == '[', {}, 0});
      else if ((c == '}' || c == ']') && !open_.empty())
        open_.pop_back();
      else if (c == ',' && !open_.empty())
        next(open_.back());
    }
    return place();
  }

 private:
  struct Open {
    bool array;
    std::string key;
    std::size_t index;
    bool value = false;  ///< behind the colon
  };

  static void next(Open& one) {
    ++one.index;
    one.key.clear();
    one.value = false;
  }

  /// @return where it ends: at its second mark, or the text's end
  std::size_t string(std::string_view text, std::size_t at) {
    std::size_t end = at + 1;
    while (end < text.size() && text[end] != '"')
      end += text[end] == '\\' ? 2 : 1;
    end = std::min(end, text.size());
    if (open_.empty() || open_.back().array || open_.back().value) return end;
    open_.back().key = text.substr(at + 1, end - at - 1);
    open_.back().value = true;
    return end;
  }

  [[nodiscard]] std::string place() const {
    std::string out;
    for (const Open& one : open_) {
      if (one.array)
        out += fmt::format("[{}]", one.index);
      else if (!one.key.empty())
        out += (out.empty() ? "" : ".") + one.key;
    }
    return out;
  }

  std::vector<Open> open_;
};

/// The last table's heading.
std::string table_of(std::string_view text) {
  std::string out;
  while (!text.empty()) {
    const std::size_t end = std::min(text.find('\n'), text.size());
    const std::string_view line = trimmed(text.substr(0, end));
    if (line.starts_with('[') && line.ends_with(']')) out = line;
    text.remove_prefix(std::min(end + 1, text.size()));
  }
  return out.empty() ? out : "in " + out;
}

/// The last heading's words.
std::string heading_of(std::string_view text) {
  const std::size_t tag =
      std::max({text.rfind("<h1") + 1, text.rfind("<h2") + 1, text.rfind("<h3") + 1});
  if (tag == 0) return {};
  const std::size_t begin = text.find('>', tag);
  if (begin == text.npos) return {};
  const std::size_t end = std::min(text.find('<', begin), text.size());
  return fmt::format("below \"{}\"", text.substr(begin + 1, end - begin - 1));
}

}  // namespace

std::string text_place(std::string_view text, std::uint64_t offset, std::string_view name) {
  const std::string_view before =
      text.substr(0, static_cast<std::size_t>(std::min<std::uint64_t>(offset, text.size())));
  std::string in;
  if (name.ends_with(".json")) in = JsonPlace().run(before);
  if (name.ends_with(".toml")) in = table_of(before);
  if (name.ends_with(".html")) in = heading_of(before);
  std::string out = fmt::format("line {}", std::ranges::count(before, '\n') + 1);
  if (!in.empty()) out += ", " + printable(in);
  return out;
}

std::string line_around(std::string_view text, std::uint64_t offset) {
  const auto at = static_cast<std::size_t>(std::min<std::uint64_t>(offset, text.size()));
  const std::size_t before = at == 0 ? text.npos : text.rfind('\n', at - 1);
  const std::size_t begin = before == text.npos ? 0 : before + 1;
  const std::size_t end = std::min(text.find('\n', at), text.size());
  if (end - begin <= kMostShown) return printable(text.substr(begin, end - begin));
  const std::size_t from = std::max(begin, at - std::min(at, kMostShown / 2));
  const std::size_t to = std::min(end, from + kMostShown);
  return fmt::format("{}{}{}", from > begin ? "…" : "", printable(text.substr(from, to - from)),
                     to < end ? "…" : "");
}

}  // namespace wexlo
