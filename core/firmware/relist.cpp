#include "firmware/relist.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/contains.hpp"
#include "base/source_read.hpp"

namespace wexlo {
namespace {

struct Range {
  std::size_t begin = 0, end = 0;
  [[nodiscard]] bool holds(std::size_t at) const { return begin <= at && at < end; }
};

bool is_hex(char c) {
  return (c >= '0' && c <= '9') || (c >= 'a' && c <= 'f') || (c >= 'A' && c <= 'F');
}
bool is_word(char c) {
  return is_hex(c) || (c >= 'g' && c <= 'z') || (c >= 'G' && c <= 'Z') || c == '_';
}

/// A part of a file's name: `super.img` is not meant by `super.img.2`, nor by `my-super.img`.
bool is_name(char c) {
  return is_word(c) || c == '.' || c == '-';
}

/// Where a word stands, with nothing beside it that would make it another.
std::vector<std::size_t> places_of(std::string_view text, std::string_view word,
                                   bool (*part)(char)) {
  std::vector<std::size_t> out;
  if (word.empty()) return out;
  for (std::size_t at = text.find(word); at != text.npos; at = text.find(word, at + 1)) {
    const std::size_t end = at + word.size();
    if (at > 0 && part(text[at - 1])) continue;
    if (end < text.size() && part(text[end])) continue;
    out.push_back(at);
  }
  return out;
}

/// Elements of an XML text, by their places; what is malformed gives fewer.
class Elements {
 public:
  explicit Elements(std::string_view text) : text_(text) {
    for (std::size_t at = text.find('<'); at != text.npos; at = text.find('<', at + 1))
      at = tag(at);
  }

  /// The record around a place: the element whose attribute it is; of text, the one around its
  /// leaf.
  [[nodiscard]] std::optional<Range> record(std::size_t at) const {
    const Element* inner = nullptr;
    for (const Element& one : all_)
      if (one.span.holds(at) && (inner == nullptr || one.span.begin > inner->span.begin))
        inner = &one;
    if (inner == nullptr) return std::nullopt;
    if (at < inner->tag_end || inner->parent < 0) return inner->span;
    return all_[static_cast<std::size_t>(inner->parent)].span;
  }

 private:
  struct Element {
    Range span;
    std::size_t tag_end = 0;
    int parent = -1;
  };

  /// Takes in one tag, gives the place of its last character.
  std::size_t tag(std::size_t at) {
    const std::string_view rest = text_.substr(at);
    if (rest.starts_with("<!--")) return skip(at, "-->");
    const std::size_t close = text_.find('>', at);
    if (close == text_.npos) return text_.size() - 1;
    if (rest.starts_with("<?") || rest.starts_with("<!")) return close;
    if (rest.starts_with("</")) {
      if (!open_.empty()) {
        all_[open_.back()].span.end = close + 1;
        open_.pop_back();
      }
      return close;
    }
    const bool leaf = text_[close - 1] == '/';
    all_.push_back({.span = {at, leaf ? close + 1 : text_.size()},
                    .tag_end = close,
                    .parent = open_.empty() ? -1 : static_cast<int>(open_.back())});
    if (!leaf) open_.push_back(all_.size() - 1);
    return close;
  }
  std::size_t skip(std::size_t at, std::string_view end) const {
    const std::size_t found = text_.find(end, at);
    return found == text_.npos ? text_.size() - 1 : found + end.size() - 1;
  }

  std::string_view text_;
  std::vector<Element> all_;
  std::vector<std::size_t> open_;
};

/// A new text for a place.
struct Change {
  Range at;
  std::string text;
};

class Relister {
 public:
  Relister(std::string_view text, const std::vector<FileChange>& changes,
           const std::vector<std::string>& others)
      : text_(text), changes_(changes), others_(others) {
    const std::size_t first = text.find_first_not_of(" \t\r\n\xef\xbb\xbf");
    if (first != text.npos && text[first] == '<') elements_.emplace(text);
  }

  Relisted run() {
    for (const FileChange& one : changes_) {
      for (const auto& [before, after] : one.digests)
        digest(one, before, after);
      if (one.old_size != one.new_size) size(one);
    }
    std::ranges::sort(found_, {}, [](const Change& one) { return one.at.begin; });
    std::size_t at = 0;
    for (const Change& one : found_) {
      if (one.at.begin < at) continue;  // two changes of one place: the first has it
      out_.text += text_.substr(at, one.at.begin - at);
      out_.text += one.text;
      at = one.at.end;
    }
    out_.text += text_.substr(at);
    return std::move(out_);
  }

 private:
  /// Its line, and in XML its element. A block of `key: value` lines is one record, too.
  [[nodiscard]] Range record(std::size_t at) const {
    if (elements_)
      if (const auto element = elements_->record(at)) return *element;
    const auto line_of = [&](std::size_t place) {
      const std::size_t before = place == 0 ? text_.npos : text_.rfind('\n', place - 1);
      return Range{before == text_.npos ? 0 : before + 1,
                   std::min(text_.find('\n', place), text_.size())};
    };
    Range out = line_of(at);
    if (!is_pair(out)) return out;
    while (out.begin > 0) {
      const Range above = line_of(out.begin - 1);
      if (!is_pair(above)) break;
      out.begin = above.begin;
    }
    while (out.end < text_.size()) {
      const Range below = line_of(out.end + 1);
      if (below.end <= out.end || !is_pair(below)) break;
      out.end = below.end;
    }
    return out;
  }

  /// `key: value` with one word on the left.
  [[nodiscard]] bool is_pair(const Range& line) const {
    const std::string_view text = text_.substr(line.begin, line.end - line.begin);
    const std::size_t mark = text.find_first_of(":=");
    if (mark == text.npos || mark == 0) return false;
    const std::string_view key = text.substr(0, mark);
    const std::size_t first = key.find_first_not_of(" \t-\"");
    const std::size_t last = key.find_last_not_of(" \t\"");
    return first != key.npos &&
           key.substr(first, last - first + 1).find_first_of(" \t") == key.npos;
  }

  [[nodiscard]] bool names(const Range& where, std::string_view file) const {
    return !places_of(text_.substr(where.begin, where.end - where.begin), file, is_name).empty();
  }

  /// A record of another file alone keeps its digest.
  [[nodiscard]] bool is_others(const Range& where, const FileChange& change) const {
    if (names(where, change.name)) return false;
    return std::ranges::any_of(others_, [&](const std::string& one) { return names(where, one); });
  }

  void digest(const FileChange& change, const std::string& before, const std::string& after) {
    if (before == after) return;
    std::string upper = before;
    std::ranges::transform(upper, upper.begin(), [](unsigned char c) { return std::toupper(c); });
    for (const std::string& spelled : {before, upper})
      for (const std::size_t at : places_of(text_, spelled, is_word)) {
        if (is_others(record(at), change)) continue;
        std::string text = after;
        if (spelled == upper)
          std::ranges::transform(text, text.begin(),
                                 [](unsigned char c) { return std::toupper(c); });
        found_.push_back({{at, at + before.size()}, std::move(text)});
        ++out_.digests;
      }
  }

  void size(const FileChange& change) {
    const std::array<std::pair<std::string, std::string>, 3> forms{{
        {fmt::format("{}", change.old_size), fmt::format("{}", change.new_size)},
        {fmt::format("0x{:x}", change.old_size), fmt::format("0x{:x}", change.new_size)},
        {fmt::format("0x{:X}", change.old_size), fmt::format("0x{:X}", change.new_size)},
    }};
    for (const std::size_t name : places_of(text_, change.name, is_name)) {
      const Range where = record(name);
      for (const auto& [before, after] : forms)
        for (const std::size_t at : places_of(text_, before, is_word)) {
          const bool known =
              std::ranges::any_of(found_, [&](const Change& one) { return one.at.holds(at); });
          if (!where.holds(at) || known) continue;
          found_.push_back({{at, at + before.size()}, after});
          ++out_.sizes;
        }
    }
  }

  std::string_view text_;
  const std::vector<FileChange>& changes_;
  const std::vector<std::string>& others_;
  std::optional<Elements> elements_;
  std::vector<Change> found_;
  Relisted out_;
};

}  // namespace

std::vector<DigestKind> digest_kinds_in(std::string_view text) {
  std::vector<DigestKind> out;
  for (std::size_t at = 0; at < text.size();) {
    if (!is_hex(text[at])) {
      // The rest of a word of other letters is none of hex digits.
      while (at < text.size() && is_word(text[at]))
        ++at;
      ++at;
      continue;
    }
    std::size_t end = at;
    while (end < text.size() && is_hex(text[end]))
      ++end;
    const bool word = end == text.size() || !is_word(text[end]);
    if (const auto kind = digest_of_size((end - at) / 2);
        word && kind && (end - at) % 2 == 0 && !contains(out, *kind))
      out.push_back(*kind);
    while (end < text.size() && is_word(text[end]))
      ++end;
    at = end;
  }
  return out;
}

Result<FileChange> compare_files(const std::string& name, const Source& before, const Source& after,
                                 const std::vector<DigestKind>& kinds, const Context& context) {
  FileChange out{.name = name, .old_size = before.size(), .new_size = after.size(), .digests = {}};
  for (const DigestKind kind : kinds) {
    WEXLO_TRY(const Bytes old, digest_of_start(before, before.size(), kind, context));
    WEXLO_TRY(const Bytes now, digest_of_start(after, after.size(), kind, context));
    out.digests.emplace_back(hex(old), hex(now));
  }
  return out;
}

Relisted relist(std::string_view text, const std::vector<FileChange>& changes,
                const std::vector<std::string>& others) {
  return Relister(text, changes, others).run();
}

}  // namespace wexlo
