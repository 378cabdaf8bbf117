/// What is made from the table of commands: man pages, completion in each shell; files that Wexlo
/// writes, against docs/schema.

#include <toml++/toml.h>
#include <sstream>

#include "program/tour.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

std::vector<std::string> words_of(const std::string& text) {
  std::vector<std::string> out;
  std::istringstream in(text);
  for (std::string word; in >> word;)
    out.push_back(word);
  std::ranges::sort(out);
  return out;
}

bool offers(const Ran& ran, const std::vector<std::string>& wanted) {
  const auto words = words_of(ran.out);
  return std::ranges::all_of(
      wanted, [&](const std::string& one) { return std::ranges::find(words, one) != words.end(); });
}

Json json_of_toml(const fs::path& file) {
  std::ostringstream out;
  out << toml::json_formatter(toml::parse_file(file.string()));
  return Json::parse(out.str());
}

}  // namespace

TEST_CASE("man: every page formats without a warning, and has its parts") {
  const Tour tour;
  REQUIRE(tour.line("wexlo help --man pages").exit_code == 0);
  std::size_t count = 0;
  for (const auto& entry : fs::directory_iterator(tour.path() / "pages")) {
    const std::string name = entry.path().filename().string();
    CAPTURE(name);
    const Ran ran =
        tour.line("MANWIDTH=80 MANOPT= LC_ALL=C.UTF-8 man --warnings -P cat -l pages/" + name);
    CHECK(ran.exit_code == 0);
    CHECK(ran.err == "");
    for (const char* part : {"NAME", "SYNOPSIS", "DESCRIPTION", "OPTIONS", "EXIT STATUS"})
      CHECK(ran.out.find(part) != std::string::npos);
    if (name != "wexlo.1") CHECK(ran.out.find("EXAMPLES") != std::string::npos);
    ++count;
  }
  CHECK(count > 20);
  CHECK(tour.line("wexlo help --man pages").exit_code == 5);
  CHECK(tour.line("wexlo help --man pages --force").exit_code == 0);
}

TEST_CASE("completion: commands, options, partitions, recipes, codes, choices") {
  const Tour tour;
  const auto asked = [&](const std::string& words) {
    return tour.line("wexlo complete -- " + words);
  };
  CHECK(offers(asked("ch"), {"check"}));
  CHECK(offers(asked("\"\""), {"prepare", "check", "keys", "explain"}));
  CHECK(offers(asked("keys \"\""), {"new", "show"}));
  CHECK(offers(asked("prepare --sh"), {"--sheet"}));
  CHECK(offers(asked("prepare --js"), {"--json"}));
  CHECK(offers(asked("extract gnomon-ota.zip in"), {"init_boot"}));
  CHECK(offers(asked("extract gnomon-ota.zip -o out --all v"), {"vbmeta", "vendor_boot"}));
  CHECK(offers(asked("prepare gnomon-ota.zip --with bo"), {"boot="}));
  CHECK(offers(asked("prepare gnomon-ota.zip -r @ver"), {"@verification-off"}));
  CHECK(offers(asked("prepare x --accept patch"), {"patch-level"}));
  CHECK(offers(asked("check --lock-state \"\""), {"locked", "unlocked"}));
  CHECK(offers(asked("check --lock-state=un"), {"--lock-state=unlocked"}));
  CHECK(offers(asked("explain bad-m"), {"bad-magic"}));
  CHECK(offers(asked("help un"), {"undo", "unpack"}));
  CHECK(asked("unpack \"\"").out == "/files\n");
  CHECK(asked("unpack x -o \"\"").out == "/folders\n");
  CHECK(asked("extract none.zip \"\"").exit_code == 0);
  CHECK(asked("nonsense \"\"").exit_code == 0);
}

TEST_CASE("completion: bash, zsh and fish ask the program, and offer what it says") {
  const Tour tour;
  for (const char* shell : {"bash", "zsh", "fish"})
    REQUIRE(tour.line(std::string("wexlo complete --script ") + shell + " > script." + shell)
                .exit_code == 0);
  const Ran bash = tour.line(
      "bash -c '. ./script.bash; COMP_WORDS=(wexlo extract gnomon-ota.zip in); COMP_CWORD=3; "
      "_wexlo; printf \"%s\\n\" \"${COMPREPLY[@]}\"; COMP_WORDS=(wexlo inspect gnomon-ota-); "
      "COMP_CWORD=2; _wexlo; printf \"%s\\n\" \"${COMPREPLY[@]}\"'");
  CHECK(offers(bash, {"init_boot", "gnomon-ota-260805.zip"}));
  CHECK(bash.err == "");
  // The functions that a zsh at work has; what is handed to it is what would be offered.
  const Ran zsh = tour.line(
      "zsh -f -c 'compdef() {}; compadd() { shift 2; print -l -- ${(P)1}; }; _files() { print "
      "files }; . ./script.zsh; words=(wexlo extract gnomon-ota.zip in); CURRENT=4; _wexlo; "
      "words=(wexlo inspect \"\"); CURRENT=3; _wexlo'");
  CHECK(offers(zsh, {"init_boot", "files"}));
  CHECK(zsh.err == "");
  const Ran fish = tour.line(
      "HOME=$PWD fish --no-config -c 'source script.fish; complete -C \"wexlo extract "
      "gnomon-ota.zip in\"; complete -C \"wexlo inspect gnomon-ota-2\"'");
  CHECK(offers(fish, {"init_boot", "gnomon-ota-260805.zip"}));
  CHECK(fish.err == "");
}

TEST_CASE("schema: every document that the demo leaves is as docs/schema says") {
  Schemas schemas;
  const std::map<std::string, std::string> kinds{
      {"kit.json", "file-kit"},   {"report.json", "file-report"}, {"extract.json", "file-extract"},
      {"plan.toml", "file-plan"}, {"parts.toml", "file-parts"},   {"gnomon.toml", "file-sheet"}};
  std::map<std::string, int> seen;
  for (const auto& entry : fs::recursive_directory_iterator(tour_folder())) {
    const auto kind = kinds.find(entry.path().filename().string());
    if (kind == kinds.end()) continue;
    CAPTURE(entry.path().string());
    const bool is_toml = entry.path().extension() == ".toml";
    const Json document = is_toml ? json_of_toml(entry.path()) : Json::parse(read(entry.path()));
    CHECK(schemas.trouble(kind->second, document) == "");
    ++seen[kind->second];
  }
  CHECK(seen.size() == 6);
  const Tour tour;
  REQUIRE(tour.line("wexlo insert images init_boot=init_boot-patched.img -o mine").exit_code == 0);
  CHECK(schemas.trouble("file-insert", Json::parse(read(tour.path() / "mine/insert.json"))) == "");
}

TEST_CASE("schema: what is not in it, and what is of another type, is found") {
  Schemas schemas;
  Json reply = {{"command", "draw"},
                {"ok", true},
                {"result", {{"file", "x"}, {"title", "x"}, {"size", 1}}},
                {"findings", Json::array()}};
  CHECK(schemas.trouble("reply", reply) == "");
  CHECK(schemas.trouble("draw", reply["result"]) == "");
  reply["result"]["size"] = "1";
  CHECK(schemas.trouble("draw", reply["result"]) != "");
  reply["result"]["size"] = 1;
  reply["result"]["more"] = 1;
  CHECK(schemas.trouble("draw", reply["result"]) != "");
  reply["command"] = "paint";
  CHECK(schemas.trouble("reply", reply) != "");
  for (const auto& entry : fs::directory_iterator(fs::path(source_folder()) / "docs/schema"))
    CHECK(Json::accept(read(entry.path())));
}
