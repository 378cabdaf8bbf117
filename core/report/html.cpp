#include <fmt/format.h>

#include "report/document.hpp"
#include "text/text.hpp"

namespace wexlo::embedded {
std::string_view report_style(std::string_view name);
}

namespace wexlo::report {
namespace {

std::string_view tone_class(Tone tone) {
  switch (tone) {
    case Tone::Good: return "good";
    case Tone::Warning: return "warn";
    case Tone::Bad: return "bad";
    case Tone::Faint: return "faint";
    case Tone::Mono: return "mono";
    case Tone::Number: return "number";
    case Tone::Plain: break;
  }
  return {};
}

std::string classed(Tone tone) {
  const std::string_view name = tone_class(tone);
  return name.empty() ? std::string() : fmt::format(" class=\"{}\"", name);
}

class Html {
 public:
  std::string write(const Document& document) {
    out_ = fmt::format(
        "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<meta "
        "name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n<title>{}</title>\n"
        "<style>\n{}</style>\n</head>\n<body>\n<main>\n<h1>{}</h1>\n<p class=\"sub\">{}</p>\n",
        markup_text(document.title), embedded::report_style("style.css"),
        markup_text(document.title), markup_text(document.subtitle));
    navigation(document);
    if (!document.facts.empty()) {
      out_ += "<dl>\n";
      for (const auto& [name, cell] : document.facts)
        out_ += fmt::format("<dt>{}</dt><dd{}>{}</dd>\n", markup_text(name), classed(cell.tone),
                            markup_text(cell.text));
      out_ += "</dl>\n";
    }
    return blocks(document) + "</main>\n</body>\n</html>\n";
  }

  std::string blocks(const Document& document) {
    for (const auto& block : document.blocks)
      std::visit([this](const auto& one) { put(one); }, block);
    return std::move(out_);
  }

 private:
  void navigation(const Document& document) {
    std::string links;
    for (const auto& block : document.blocks)
      if (const auto* heading = std::get_if<Heading>(&block); heading && heading->level == 2)
        links += fmt::format("<a href=\"#{}\">{}</a>\n", heading->id, markup_text(heading->text));
    if (!links.empty()) out_ += "<nav>\n" + links + "</nav>\n";
  }

  void put(const Heading& one) {
    out_ += one.id.empty() ? fmt::format("<h{0}>{1}</h{0}>\n", one.level, markup_text(one.text))
                           : fmt::format("<h{0} id=\"{2}\">{1}</h{0}>\n", one.level,
                                         markup_text(one.text), one.id);
  }
  void put(const Text& one) {
    out_ += fmt::format("<p{}>{}</p>\n", classed(one.tone), markup_text(one.text));
  }
  void put(const Table& table) {
    if (table.rows.empty()) return;
    out_ += "<div class=\"scroll\"><table>\n<thead><tr>";
    for (const std::string& one : table.headings)
      out_ += fmt::format("<th>{}</th>", markup_text(one));
    out_ += "</tr></thead>\n<tbody>\n";
    for (const auto& row : table.rows) {
      out_ += "<tr>";
      for (const Cell& cell : row)
        out_ += fmt::format("<td{}>{}</td>", classed(cell.tone), markup_text(cell.text));
      out_ += "</tr>\n";
    }
    out_ += "</tbody></table></div>\n";
  }
  void put(const Lines& one) {
    out_ += "<pre>";
    for (const std::string& line : one.lines) {
      const Tone tone = line.starts_with('+')   ? Tone::Good
                        : line.starts_with('-') ? Tone::Warning
                                                : Tone::Plain;
      out_ += tone == Tone::Plain
                  ? markup_text(line) + "\n"
                  : fmt::format("<span{}>{}</span>\n", classed(tone), markup_text(line));
    }
    out_ += "</pre>\n";
  }
  void put(const Figure& one) {
    out_ += fmt::format("<figure>\n{}<figcaption>{}</figcaption>\n</figure>\n", one.svg,
                        markup_text(one.caption));
  }
  void put(const Numbered& list) {
    out_ += "<ol>\n";
    for (const Numbered::Item& item : list.items) {
      out_ += fmt::format("<li><span class=\"head\">{}</span>", markup_text(item.head));
      if (!item.tag.empty())
        out_ += fmt::format("<span class=\"tag {}\">{}</span>", tone_class(item.tag_tone),
                            markup_text(item.tag));
      for (const std::string& line : item.lines)
        out_ += fmt::format("<div>{}</div>", markup_text(line));
      out_ += "</li>\n";
    }
    out_ += "</ol>\n";
  }

  std::string out_;
};

}  // namespace

std::string to_html(const Document& document) {
  return Html().write(document);
}

std::string blocks_html(const Document& document) {
  return Html().blocks(document);
}

}  // namespace wexlo::report
