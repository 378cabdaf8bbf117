#include "observed_text.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>

#include "base/source_read.hpp"
#include "phone/fastboot/fastboot_phone.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

constexpr std::uint64_t kMaxText = 16u << 20;
constexpr std::size_t kShownIgnored = 3;

struct Used {
  LineKind kind;
  std::string file;
  std::size_t lines = 0;
};

/// Pieces of one kind and file together, in the order they begin.
std::vector<Used> used_of(const Observed& observed) {
  std::vector<Used> out;
  for (const SeenPiece& piece : observed.pieces) {
    const auto at = std::ranges::find_if(
        out, [&](const Used& one) { return one.kind == piece.kind && one.file == piece.file; });
    if (at == out.end())
      out.push_back({piece.kind, piece.file, piece.lines});
    else
      at->lines += piece.lines;
  }
  return out;
}

}  // namespace

Result<Observed> observe(const std::vector<std::string>& files,
                         const std::vector<std::string>& phones, const Context& context) {
  std::vector<std::string> named = files;
  const auto standard = std::ranges::remove(named, std::string("-"));
  const bool reads = !standard.empty();
  named.erase(standard.begin(), standard.end());
  WEXLO_TRY(Observed out, read_observed_files(named, context));
  if (reads) {
    WEXLO_TRY(const Bytes all, read_descriptor(STDIN_FILENO, "standard input", kMaxText, context));
    read_observed(as_text(all), "standard input", out);
  }
  if (phones.empty()) return out;
  WEXLO_TRY(auto addresses, parse_addresses(phones));
  FastbootPhone phone(std::move(addresses), context, {});
  WEXLO_TRY(const std::string said, phone.all_variables());
  read_observed(said, "the bootloader", out);
  return out;
}

Json observed_json(const Observed& observed) {
  Json facts = Json::array(), used = Json::array(), signs = Json::array(), ignored = Json::array();
  for (const auto& [fact, all] : observed.facts)
    for (const Seen& one : all)
      facts.push_back({{"fact", fact_word(fact)}, {"value", one.value}, {"where", one.at.text()}});
  for (const SeenPiece& piece : observed.pieces)
    used.push_back({{"kind", line_kind_word(piece.kind)},
                    {"file", piece.file},
                    {"first", piece.first},
                    {"last", piece.last},
                    {"lines", piece.lines}});
  for (const SeenSign& one : observed.signs)
    signs.push_back(
        {{"what", log_sign_about(one.sign)}, {"line", one.line}, {"where", one.at.text()}});
  for (const Seen& one : observed.ignored)
    ignored.push_back({{"line", one.value}, {"where", one.at.text()}});
  return {{"facts", std::move(facts)},
          {"used", std::move(used)},
          {"signs", std::move(signs)},
          {"ignored", std::move(ignored)}};
}

std::string observed_text(const Session& session, const Observed& observed) {
  std::string out;
  for (const Used& one : used_of(observed))
    out += fmt::format("  {}: {} of {}\n", printable(one.file), counted(one.lines, "line"),
                       line_kind_about(one.kind));
  if (observed.ignored.empty()) return out;
  out += fmt::format("  {}", counted(observed.ignored.size(), "line"));
  out += observed.ignored.size() == 1 ? " was not used:\n" : " were not used:\n";
  const std::size_t shown = session.globals.verbose
                                ? observed.ignored.size()
                                : std::min(kShownIgnored, observed.ignored.size());
  for (std::size_t i = 0; i < shown; ++i)
    out +=
        fmt::format("    {}  {}\n", session.paint.faint(printable(observed.ignored[i].at.text())),
                    printable(observed.ignored[i].value));
  if (shown < observed.ignored.size()) out += "    (--verbose shows all)\n";
  return out;
}

}  // namespace wexlo::cli
