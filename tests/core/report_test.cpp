#include "report/document.hpp"

#include <algorithm>
#include <set>

#include "support/check.hpp"

using namespace wexlo;
using namespace wexlo::report;
using namespace wexlo::test;

namespace {

Document usual() {
  Document out{.title = "Kit for <gnomon>", .subtitle = "a & b", .facts = {}, .blocks = {}};
  out.facts.emplace_back("Name", Cell{"\"quoted\" <b>", Tone::Warning});
  out.add(Heading{"Fit", "fit"});
  out.add(Text{"text & more", Tone::Faint});
  out.add(Table{{"what", "<th>"}, {{{"cell"}, {"<script>alert(1)</script>", Tone::Bad}}}});
  out.add(Heading{"Plan", "plan"});
  out.add(Numbered{{{"write", "data is lost", Tone::Bad, {"one", "two > three"}}}});
  out.add(Lines{{"@ 2", "-old", "+new", "https://not.a.link/"}});
  out.add(Figure{"<svg xmlns=\"http://www.w3.org/2000/svg\"><title>t</title></svg>", "caption"});
  return out;
}

/// Every tag is closed where it should be; void elements have none to close.
void check_balanced(const std::string& html) {
  const std::set<std::string> empty{"meta", "!doctype"};
  std::vector<std::string> open;
  for (std::size_t at = html.find('<'); at != html.npos; at = html.find('<', at + 1)) {
    const std::size_t end = html.find_first_of(" >\n", at + 1);
    REQUIRE(end != html.npos);
    const std::string name = html.substr(at + 1, end - at - 1);
    const std::size_t close = html.find('>', at);
    if (name.starts_with('/')) {
      REQUIRE_FALSE(open.empty());
      CHECK(open.back() == name.substr(1));
      open.pop_back();
    } else if (!empty.contains(name) && html[close - 1] != '/') {
      open.push_back(name);
    }
  }
  CHECK(open.empty());
}

}  // namespace

TEST_CASE("report: one file that needs nothing else: no script, no network, no other file") {
  const std::string html = to_html(usual());
  check_balanced(html);
  for (const char* word : {"<script", "<link", "<img", "<iframe", "@import", "url(", "src="})
    CHECK_MESSAGE(html.find(word) == std::string::npos, word);
  // The one address in it is the name of a markup language, not a place.
  std::string rest = html;
  for (const std::string known : {"http://www.w3.org/2000/svg", "https://not.a.link/"})
    for (std::size_t at = rest.find(known); at != rest.npos; at = rest.find(known))
      rest.erase(at, known.size());
  CHECK(rest.find("http") == std::string::npos);
  CHECK(html.find("href=\"https") == std::string::npos);
}

TEST_CASE("report: whatever texts hold, they are texts") {
  const std::string html = to_html(usual());
  CHECK(html.find("<title>Kit for &lt;gnomon&gt;</title>") != std::string::npos);
  CHECK(html.find("&lt;script&gt;alert(1)&lt;/script&gt;") != std::string::npos);
  CHECK(html.find("&quot;quoted&quot;") != std::string::npos);
}

TEST_CASE("report: light and dark, paper, and links to every chapter") {
  const std::string html = to_html(usual());
  CHECK(html.find("prefers-color-scheme:dark") != std::string::npos);
  CHECK(html.find("@media print") != std::string::npos);
  CHECK(html.find("<a href=\"#fit\">Fit</a>") != std::string::npos);
  CHECK(html.find("<h2 id=\"plan\">Plan</h2>") != std::string::npos);
}

TEST_CASE(
    "report: lines that were taken out and put in are told apart; the same in, the same out") {
  const std::string html = to_html(usual());
  CHECK(html.find("<span class=\"warn\">-old</span>") != std::string::npos);
  CHECK(html.find("<span class=\"good\">+new</span>") != std::string::npos);
  CHECK(html == to_html(usual()));
}

TEST_CASE("report: an empty document is a page all the same") {
  const std::string html = to_html({.title = "x", .subtitle = {}, .facts = {}, .blocks = {}});
  check_balanced(html);
  CHECK(html.find("<nav>") == std::string::npos);
}
