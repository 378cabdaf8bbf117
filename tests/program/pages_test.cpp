/// What README, docs, help and man pages show is what the program does: each command line in them
/// is run on the demo's data, and what is shown of its output is held against what comes out. With
/// WEXLO_WRITE_PAGES in the environment the pages are written anew instead.

#include <algorithm>
#include <cstdlib>
#include <fstream>
#include <regex>
#include <sstream>

#include "program/tour.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

bool writes_pages() {
  return std::getenv("WEXLO_WRITE_PAGES") != nullptr;
}

std::vector<std::string> lines_of(const std::string& text) {
  std::vector<std::string> out;
  std::istringstream in(text);
  for (std::string line; std::getline(in, line);)
    out.push_back(line);
  return out;
}

std::string joined(const std::vector<std::string>& lines) {
  std::string out;
  for (const std::string& line : lines)
    out += line + "\n";
  return out;
}

/// README and the pages of docs/, in their order; decisions and formats show no commands.
std::vector<fs::path> pages() {
  std::vector<fs::path> out{fs::path(source_folder()) / "README.md"};
  for (const auto& entry : fs::directory_iterator(fs::path(source_folder()) / "docs"))
    if (entry.path().extension() == ".md") out.push_back(entry.path());
  std::ranges::sort(out);
  return out;
}

/// Those and the pages of docs/formats/, which name commands but show none.
std::vector<fs::path> pages_with_formats() {
  std::vector<fs::path> out = pages();
  for (const auto& entry : fs::directory_iterator(fs::path(source_folder()) / "docs/formats"))
    out.push_back(entry.path());
  return out;
}

constexpr const char* kRest = "…";

/// A page's blocks of commands, run in their order in one folder.
class Page {
 public:
  explicit Page(const fs::path& file) : lines_(lines_of(read(file))) {}

  void run() {
    for (std::size_t i = 0; i < lines_.size(); ++i) {
      out_.push_back(lines_[i]);
      const bool console = lines_[i] == "```console", script = lines_[i] == "```sh";
      if (!console && !script) continue;
      for (++i; i < lines_.size() && lines_[i] != "```";) {
        if (console)
          i = shown_command(i);
        else
          i = plain_command(i);
      }
      out_.emplace_back("```");
    }
  }

  [[nodiscard]] std::string text() const { return joined(out_); }
  [[nodiscard]] std::size_t commands() const { return commands_; }

 private:
  /// `$ COMMAND`, and what it shows.
  std::size_t shown_command(std::size_t i) {
    const std::string command = lines_[i];
    REQUIRE_MESSAGE(command.starts_with("$ "), command);
    out_.push_back(command);
    std::vector<std::string> shown;
    for (++i; i < lines_.size() && lines_[i] != "```" && !lines_[i].starts_with("$ "); ++i)
      shown.push_back(lines_[i]);
    const Ran ran = run_line(command.substr(2));
    check_shown(command, shown, lines_of(ran.out + ran.err));
    return i;
  }

  std::size_t plain_command(std::size_t i) {
    out_.push_back(lines_[i]);
    // Assignments stay for the lines that follow; other programs' lines are not ours to run.
    const std::string line = lines_[i];
    if (std::regex_search(line, std::regex("^[A-Z]+="))) assignments_ += line + "\n";
    if (line.starts_with("wexlo ")) run_line(line);
    return i + 1;
  }

  Ran run_line(const std::string& line) {
    ++commands_;
    CAPTURE(line);
    const Ran ran = tour_.line(assignments_ + line);
    CAPTURE(ran.out);
    CAPTURE(ran.err);
    // Exit code 1 tells of differences and findings; a page that shows one says so.
    CHECK((ran.exit_code == 0 || ran.exit_code == 1));
    return ran;
  }

  void check_shown(const std::string& command, const std::vector<std::string>& shown,
                   std::vector<std::string> real) {
    if (shown.empty()) return;
    const bool cut = shown.back() == kRest;
    if (cut && real.size() >= shown.size()) {
      real.resize(shown.size() - 1);
      real.emplace_back(kRest);
    }
    out_.insert(out_.end(), real.begin(), real.end());
    if (!writes_pages()) CHECK_MESSAGE(joined(shown) == joined(real), command);
  }

  std::vector<std::string> lines_, out_;
  std::string assignments_;
  std::size_t commands_ = 0;
  Tour tour_;
};

Json reply(const Tour& tour, const std::string& words) {
  const Ran ran = tour.line("wexlo " + words + " --json");
  REQUIRE_MESSAGE(ran.exit_code == 0, ran.err);
  return Json::parse(ran.out)["result"];
}

std::string text_of(const Json& value) {
  return value.is_null() ? "" : value.get<std::string>();
}

/// What differs is told by 1, and so is a rehearsal of something that goes wrong; where no phone is
/// connected, what asks one ends with 6.
bool ends_well(const std::string& line, int code) {
  const bool finds = line.starts_with("wexlo compare") || line.contains("--fault");
  const bool asks = line.starts_with("wexlo flash") || line.starts_with("wexlo phones fastboot");
  return code == 0 || (code == 1 && finds) || (code == 6 && asks);
}

}  // namespace

TEST_CASE("pages: every command in README and docs runs, and shows what the page shows") {
  std::size_t commands = 0;
  for (const fs::path& file : pages()) {
    CAPTURE(file.string());
    const std::string before = read(file);
    if (before.find("```console") == before.npos && before.find("```sh\nFW=") == before.npos)
      continue;
    Page page(file);
    page.run();
    commands += page.commands();
    if (writes_pages())
      write(file, page.text());
    else
      CHECK(page.text() == before);
  }
  CHECK(commands > 40);
}

TEST_CASE("pages: every example of help and tasks runs in the demo's folder") {
  const Tour facts;
  const Json help = reply(facts, "help");
  std::size_t count = 0;
  for (const char* list : {"commands", "tasks"})
    for (const Json& one : help[list]) {
      // Those of one command go on with what the ones before made; commands do not.
      const Tour tour;
      if (one["name"] == "repack") REQUIRE(tour.line("ls parts").exit_code == 0);
      for (const Json& example : one[list == std::string("tasks") ? "steps" : "examples"]) {
        const auto line = example["line"].get<std::string>();
        CAPTURE(line);
        const Ran ran = tour.line(line);
        CAPTURE(ran.err);
        CHECK(ends_well(line, ran.exit_code));
        ++count;
      }
    }
  CHECK(count > 50);
}

TEST_CASE("pages: commands and options that are named between sentences exist") {
  const Tour tour;
  std::set<std::string> names, globals{"help", "version"};
  std::map<std::string, std::set<std::string>> options;
  const Json help = reply(tour, "help");
  for (const Json& one : help["options"])
    globals.insert(one["name"].get<std::string>().substr(2));
  for (const Json& one : help["commands"]) {
    const auto name = one["name"].get<std::string>();
    names.insert(name.substr(0, name.find(' ')));
    for (const Json& option : one["options"])
      options[name.substr(0, name.find(' '))].insert(option["name"].get<std::string>().substr(2));
  }
  const std::regex span("`wexlo ([a-z]+)([^`]*)`"), option("--([a-z-]+)");
  for (const fs::path& file : pages_with_formats()) {
    const std::string text = read(file);
    for (std::sregex_iterator at(text.begin(), text.end(), span), end; at != end; ++at) {
      CAPTURE(file.string());
      CAPTURE(at->str());
      const std::string name = (*at)[1], rest = (*at)[2];
      if (rest == " back 1") continue;  // the first line of a way back, no command
      CHECK(names.contains(name));
      for (std::sregex_iterator one(rest.begin(), rest.end(), option); one != end; ++one)
        CHECK((globals.contains((*one)[1]) || options[name].contains((*one)[1])));
    }
  }
}

TEST_CASE("pages: docs/codes.md is what explain says") {
  const Tour tour;
  std::string page =
      "# Codes\n\nEvery code in a message's square brackets, and every error. "
      "`wexlo explain CODE` shows one in the terminal.\n\nThe level is the usual one: what is "
      "known of the phone may make a finding weigh less. Codes with `-NAME` end\nwith what they "
      "are about: `no-room-system`. This page is written from the program's own tables.\n";
  const Json all = reply(tour, "explain");
  for (const Json& one : all["codes"]) {
    page += "\n## " + text_of(one["code"]) + "\n" + text_of(one["kind"]) + "\n\n";
    page += "- " + text_of(one["says"]) + ": " + text_of(one["about"]) + "\n";
    if (!one["why"].is_null()) page += "- why: " + text_of(one["why"]) + "\n";
    if (!one["to_do"].is_null()) page += "- what to do: " + text_of(one["to_do"]) + "\n";
  }
  const fs::path file = fs::path(source_folder()) / "docs/codes.md";
  if (writes_pages())
    write(file, page);
  else
    CHECK(read(file) == page);
}

TEST_CASE("pages: links in README and docs lead to files that are there") {
  const std::regex link("\\]\\(([^)#]+)(#[^)]*)?\\)");
  std::size_t count = 0;
  for (const fs::path& file : pages_with_formats()) {
    const std::string text = read(file);
    for (std::sregex_iterator at(text.begin(), text.end(), link), end; at != end; ++at) {
      CAPTURE(file.string());
      CAPTURE(at->str());
      const std::string target = (*at)[1];
      if (!target.starts_with("http")) CHECK(fs::exists(file.parent_path() / target));
      ++count;
    }
  }
  CHECK(count > 80);
}
