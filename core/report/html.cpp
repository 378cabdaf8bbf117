#include <fmt/format.h>

#include "report/document.hpp"
#include "text/text.hpp"

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

constexpr std::string_view kStyle = R"css(
:root{color-scheme:light dark;--paper:#fff;--text:#1a1d21;--faint:#5a626c;--line:#d3d8de;--soft:#f3f5f7;
--good:#00664a;--warn:#8a4b00;--bad:#a32a00}
@media (prefers-color-scheme:dark){:root{--paper:#14181d;--text:#e8eaed;--faint:#a5adb8;--line:#39414a;
--soft:#1d232a;--good:#3fd0a4;--warn:#f0b429;--bad:#ff8f66}}
*{box-sizing:border-box}
body{margin:0;background:var(--paper);color:var(--text);font:15px/1.5 "DejaVu Sans",Verdana,sans-serif}
main{max-width:1040px;margin:0 auto;padding:28px 24px 60px}
h1{font-size:25px;margin:0 0 2px}
h2{font-size:19px;margin:36px 0 8px;padding-top:10px;border-top:2px solid var(--line)}
h3{font-size:16px;margin:22px 0 6px}
p{margin:6px 0}
.sub{color:var(--faint);overflow-wrap:anywhere}
nav{margin:14px 0 4px;font-size:14px}
nav a{color:inherit;margin-right:14px}
dl{display:grid;grid-template-columns:max-content 1fr;gap:3px 18px;margin:16px 0;padding:12px 16px;
background:var(--soft);border-radius:6px}
dt{color:var(--faint)}dd{margin:0;overflow-wrap:anywhere}
.scroll{overflow-x:auto}
table{border-collapse:collapse;width:100%;font-size:13.5px;margin:8px 0}
th{text-align:left;color:var(--faint);font-weight:normal;border-bottom:1px solid var(--line);padding:4px 10px 4px 0}
td{vertical-align:top;border-bottom:1px solid var(--line);padding:5px 10px 5px 0}
td.mono{overflow-wrap:anywhere}td.number{white-space:nowrap}
.mono,pre{font:12.5px/1.45 "DejaVu Sans Mono",Consolas,monospace}
pre{background:var(--soft);border-radius:6px;padding:8px 12px;margin:6px 0;white-space:pre-wrap;overflow-wrap:anywhere}
.good{color:var(--good)}.warn{color:var(--warn)}.bad{color:var(--bad);font-weight:bold}.faint{color:var(--faint)}
figure{margin:12px 0}figcaption{color:var(--faint);font-size:13.5px}
figure svg{width:100%;height:auto;display:block}
ol{padding-left:34px;margin:8px 0}
ol>li{margin:9px 0;padding-left:4px}
li .head{font-weight:bold}
li .tag{font-size:12.5px;border:1px solid currentColor;border-radius:4px;padding:0 6px;margin-left:8px;white-space:nowrap}
li div{font-size:14px}
@media print{
:root{color-scheme:light;--paper:#fff;--text:#000;--faint:#444;--line:#bbb;--soft:#f3f5f7;--good:#00513b;--warn:#6b3a00;--bad:#8a2400}
body{font-size:10.5pt}main{max-width:none;padding:0}nav{display:none}
h1,h2,h3{break-after:avoid}h2{margin-top:22px}figure,li,tr{break-inside:avoid}@page{margin:16mm}}
)css";

class Html {
 public:
  std::string write(const Document& document) {
    out_ = fmt::format(
        "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<meta "
        "name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n<title>{}</title>\n"
        "<style>{}</style>\n</head>\n<body>\n<main>\n<h1>{}</h1>\n<p class=\"sub\">{}</p>\n",
        markup_text(document.title), kStyle, markup_text(document.title),
        markup_text(document.subtitle));
    navigation(document);
    if (!document.facts.empty()) {
      out_ += "<dl>\n";
      for (const auto& [name, cell] : document.facts)
        out_ += fmt::format("<dt>{}</dt><dd{}>{}</dd>\n", markup_text(name), classed(cell.tone),
                            markup_text(cell.text));
      out_ += "</dl>\n";
    }
    for (const auto& block : document.blocks)
      std::visit([this](const auto& one) { put(one); }, block);
    return out_ + "</main>\n</body>\n</html>\n";
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

}  // namespace wexlo::report
