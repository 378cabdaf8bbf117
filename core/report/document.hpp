#pragma once
/// A report as plain data, and one HTML file of it that needs nothing else: no network, no script.

#include <string>
#include <variant>
#include <vector>

namespace wexlo::report {

enum class Tone { Plain, Good, Warning, Bad, Faint, Mono, Number };

struct Cell {
  std::string text;
  Tone tone = Tone::Plain;
};

struct Table {
  std::vector<std::string> headings;
  std::vector<std::vector<Cell>> rows;
};

struct Text {
  std::string text;
  Tone tone = Tone::Plain;
};

/// Lines as they stand; those that begin with `+` or `-` are told apart.
struct Lines {
  std::vector<std::string> lines;
};

struct Figure {
  std::string svg, caption;
};

struct Numbered {
  struct Item {
    std::string head, tag;  ///< tag: "data is lost"
    Tone tag_tone = Tone::Warning;
    std::vector<std::string> lines;
  };
  std::vector<Item> items;
};

struct Heading {
  std::string text, id;
  int level = 2;
};

struct Document {
  std::string title, subtitle;
  /// The first thing to be read: name and value.
  std::vector<std::pair<std::string, Cell>> facts;
  std::vector<std::variant<Heading, Text, Table, Lines, Figure, Numbered>> blocks;

  template <class Block>
  void add(Block block) {
    blocks.emplace_back(std::move(block));
  }
};

/// The same document gives the same bytes.
[[nodiscard]] std::string to_html(const Document& document);
/// Its blocks alone, to be put into another file of this kind.
[[nodiscard]] std::string blocks_html(const Document& document);

}  // namespace wexlo::report
