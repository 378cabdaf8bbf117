#include "compare/compare.hpp"

#include <fmt/format.h>

#include "base/digest.hpp"
#include "commands.hpp"
#include "options.hpp"
#include "reply.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

struct CompareArguments {
  std::string a, b;
};

Json image_json(const ImageComparison& one) {
  Json differences = Json::array(), ranges = Json::array();
  for (const Difference& d : one.differences)
    differences.push_back({{"area", area_name(d.area)},
                           {"what", difference_name(d.kind)},
                           {"where", d.where},
                           {"before", d.before},
                           {"after", d.after},
                           {"lines", d.lines}});
  for (const DifferentRange& range : one.ranges)
    ranges.push_back({{"offset", range.offset}, {"size", range.size}, {"region", range.region}});
  return {{"partition", one.partition.empty() ? Json() : Json(one.partition)},
          {"size_a", one.size_a},
          {"size_b", one.size_b},
          {"differences", differences},
          {"ranges", ranges},
          {"meaning", one.meaning}};
}

std::string line_text(const std::string& line, const Paint& paint) {
  const std::string safe = printable(line);
  if (line.starts_with('-')) return paint.bad(safe);
  if (line.starts_with('+')) return paint.good(safe);
  return paint.faint(safe);
}

/// Digests by their first digits.
std::string without_long_digests(const std::string& text) {
  constexpr std::size_t kShortest = 40;  // of SHA-1
  std::string out;
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = std::min(text.find_first_not_of("0123456789abcdef", at), text.size());
    const std::string digits = text.substr(at, end - at);
    out += digits.size() >= kShortest ? short_digest(digits) : digits;
    if (end < text.size()) out += text[end];
    at = end + 1;
  }
  return out;
}

std::string shorten(const std::string& text, bool all) {
  constexpr std::size_t kMost = 48;
  const std::string safe = all ? printable(text) : without_long_digests(printable(text));
  if (all || safe.size() <= kMost) return safe;
  std::size_t end = kMost - 1;
  while (end > 0 && (static_cast<unsigned char>(safe[end]) & 0xc0) == 0x80)
    --end;
  return safe.substr(0, end) + "…";
}

/// Where two long values begin alike, what they share is left out: up to the end of a word.
std::pair<std::string, std::string> differing(const Difference& d, bool all) {
  constexpr std::size_t kWorthIt = 16;
  const auto [one, other] = std::ranges::mismatch(d.before, d.after);
  auto same = static_cast<std::size_t>(one - d.before.begin());
  same = d.before.substr(0, same).find_last_of(" ,:/") + 1;  // none: 0
  if (all || same < kWorthIt || d.after.empty()) same = 0;
  const std::string mark = same > 0 ? "…" : "";
  return {mark + shorten(d.before.substr(same), all), mark + shorten(d.after.substr(same), all)};
}

std::string image_text(const ImageComparison& one, const Session& session) {
  const bool all = session.globals.verbose;
  std::string out;
  if (!one.partition.empty()) out += session.paint.heading(printable(one.partition)) + "\n";
  for (const std::string& sentence : one.meaning)
    out += "  " + printable(sentence) + "\n";
  if (!one.differences.empty()) {
    Table table({"area", "change", "where", "before", "after"});
    for (const Difference& d : one.differences) {
      const auto [before, after] = differing(d, all);
      table.row({std::string(area_name(d.area)), std::string(difference_name(d.kind)),
                 printable(d.where), before, after});
    }
    out += "\n" + table.text(session.paint);
  }
  for (const Difference& d : one.differences) {
    if (d.lines.empty()) continue;
    out += fmt::format("\n  {}\n", session.paint.heading(printable(d.where)));
    for (const std::string& line : d.lines)
      out += "    " + line_text(line, session.paint) + "\n";
  }
  if (one.ranges.empty()) return out;
  Table ranges({">offset", ">bytes", "region"});
  constexpr std::size_t kMost = 24;
  for (std::size_t i = 0; i < one.ranges.size() && (all || i < kMost); ++i)
    ranges.row({fmt::format("0x{:x}", one.ranges[i].offset), fmt::format("{}", one.ranges[i].size),
                one.ranges[i].region});
  out += "\n" + ranges.text(session.paint);
  if (!all && one.ranges.size() > kMost)
    out += fmt::format("  and {} more ranges (--verbose)\n", one.ranges.size() - kMost);
  return out;
}

Result<Reply> run_compare(const CompareArguments& options, const Session& session) {
  WEXLO_TRY(const Comparison compared, compare(options.a, options.b, session.context));
  Reply reply;
  reply.well = compared.same;
  reply.result = {
      {"same", compared.same}, {"kind_a", compared.kind_a}, {"kind_b", compared.kind_b}};
  reply.result["images"] = Json::array();
  reply.text =
      fmt::format("{}  ({})\n{}  ({})\n", session.paint.heading(printable(options.a)),
                  compared.kind_a, session.paint.heading(printable(options.b)), compared.kind_b);
  for (const ImageComparison& one : compared.images) {
    reply.result["images"].push_back(image_json(one));
    reply.text += image_text(one, session);
  }
  if (compared.same) reply.text += "the same, byte for byte\n";
  return reply;
}

}  // namespace

void add_compare(Commands& commands, Session& session, int& exit_code) {
  auto options = std::make_shared<CompareArguments>();
  Command(commands, "compare")
      .operand("A", options->a, "An image, a parts folder or a package")
      .operand("B", options->b, "What it is compared with")
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "compare", run_compare(*options, session));
      });
}

}  // namespace wexlo::cli
