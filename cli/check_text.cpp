#include "check_text.hpp"

#include <fmt/format.h>

#include "chain.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

class Text {
 public:
  Text(const Checked& checked, const CheckArguments& options, const Session& session)
      : checked_(checked), options_(options), session_(session) {}

  std::string run() {
    // A state that nobody has in mind is not told in red.
    verdict("locked", checked_.locked, locked_matters());
    verdict("unlocked", checked_.unlocked, options_.lock_state != "locked");
    if (const std::string chain = chain_text(checked_.walk, session_); !chain.empty())
      out_ += "\n" + chain;
    partitions();
    if (!checked_.walk.digest.empty())
      out_ += fmt::format("\n  vbmeta digest {} {}\n", checked_.walk.digest_algorithm,
                          checked_.walk.digest);
    for (const AgainstStock& one : checked_.against)
      stranger(one);
    if (!out_.empty()) out_ += "\n";
    return std::move(out_);
  }

 private:
  bool locked_matters() const {
    return options_.lock_state != "unlocked" && !checked_.taken_unlocked;
  }

  void verdict(const char* state, const Verdict& verdict, bool matters) {
    const std::string label = fmt::format("{:<10}", state);
    const std::string word = fmt::format("{:<12}", verified::outlook_name(verdict.outlook));
    out_ += fmt::format("  {}{} {}\n", label,
                        !matters           ? session_.paint.faint(word)
                        : verdict.starts() ? session_.paint.good(word)
                        : verdict.outlook == verified::Outlook::CannotTell
                            ? session_.paint.warning(word)
                            : session_.paint.bad(word),
                        printable(verdict.sentence));
  }

  void partitions() {
    Table table({"partition", "status", ">size", ""});
    for (const CheckedPartition& one : checked_.partitions) {
      const bool good = one.status == "ok";
      const bool soft =
          one.status == "missing" || one.status == "disabled" || one.status == "unsigned";
      table.row({printable(one.name),
                 good   ? session_.paint.good(one.status)
                 : soft ? session_.paint.warning(one.status)
                        : session_.paint.bad(one.status),
                 one.size == 0 ? "-" : human_size(one.size), printable(one.detail)});
    }
    if (!table.empty()) out_ += "\n" + table.text(session_.paint);
  }

  void list(const char* title, const std::vector<std::string>& texts, bool bad) {
    for (std::size_t i = 0; i < texts.size(); ++i) {
      const std::string text = printable(texts[i]);
      out_ += fmt::format("  {:<12}{}\n", i == 0 ? title : "",
                          bad ? session_.paint.warning(text) : text);
    }
  }

  void stranger(const AgainstStock& one) {
    out_ += fmt::format("\n{} against the firmware\n  {}\n",
                        session_.paint.heading(printable(one.partition)), printable(one.sentence));
    list("build", one.evidence, false);
    std::vector<std::string> changes;
    constexpr std::size_t kMost = 12;
    for (const Difference& d : one.changes) {
      if (changes.size() == kMost && !session_.globals.verbose) {
        changes.push_back(fmt::format("… and {} more: --verbose", one.changes.size() - kMost));
        break;
      }
      std::string text =
          fmt::format("{} {} {}", area_name(d.area), difference_name(d.kind), d.where);
      if (!d.before.empty() || !d.after.empty())
        text += fmt::format(": {} -> {}", d.before.empty() ? "(none)" : d.before,
                            d.after.empty() ? "(none)" : d.after);
      changes.push_back(std::move(text));
      for (const std::string& line : d.lines)
        if (line.starts_with('+') || line.starts_with('-')) changes.push_back("  " + line);
    }
    list("changed", changes, false);
    list("lowered", one.lowered, true);
    list("unexplained", one.unexplained, true);
  }

  const Checked& checked_;
  const CheckArguments& options_;
  const Session& session_;
  std::string out_;
};

std::string counted_or_no(std::size_t count, std::string_view what) {
  return count == 0 ? fmt::format("no {}s", what) : counted(count, what);
}

/// Said of one state of the lock. @param phone  "an unlocked phone"
std::string outlook_text(std::string_view phone, const Verdict& verdict) {
  if (verdict.starts()) return fmt::format("{} starts it", phone);
  if (verdict.outlook == verified::Outlook::CannotTell)
    return fmt::format("whether {} starts it cannot be told", phone);
  return fmt::format("{} does not start it", phone);
}

}  // namespace

std::string remade_text(const RemadeKit& remade, const Session& session) {
  const auto line = [](std::string_view text) {
    return fmt::format("  {:<10}{}\n", "remade", text);
  };
  switch (remade.outcome) {
    case Remade::Same:
      return line(
          fmt::format("{}  {} files, {} compared: the kit is made of this firmware and of "
                      "its own recipes and settings",
                      session.paint.good("the same"), remade.files, human_size(remade.bytes)));
    case Remade::Not: return line(session.paint.bad("not made"));
    case Remade::Differs: break;
  }
  return line(fmt::format("{} in {} of {} files: each is told below", session.paint.bad("differs"),
                          remade.differs.size(), remade.files));
}

std::string check_text(const Checked& checked, const CheckArguments& options,
                       const Session& session) {
  return Text(checked, options, session).run();
}

std::string check_verdict(const Checked& checked, const std::vector<Finding>& findings,
                          const CheckArguments& options, const Session& session) {
  std::size_t problems = 0, warnings = 0;
  for (const Finding& one : findings) {
    problems += one.level == Level::Problem ? 1 : 0;
    warnings += one.level == Level::Warning ? 1 : 0;
  }
  std::string state;
  if (options.lock_state != "unlocked" && !checked.taken_unlocked)
    state = outlook_text("a locked phone", checked.locked);
  if (options.lock_state != "locked")
    state += (state.empty() ? "" : ", ") + outlook_text("an unlocked phone", checked.unlocked);
  const std::string text =
      fmt::format("Verdict: {}; {}, {}", state, counted_or_no(problems, "problem"),
                  counted_or_no(warnings, "warning"));
  std::string out = (problems > 0   ? session.paint.bad(text)
                     : warnings > 0 ? session.paint.warning(text)
                                    : session.paint.good(text)) +
                    "\n";
  if (checked.taken_unlocked)
    out +=
        "(Patched images are judged for an unlocked phone; --lock-state locked judges the "
        "other.)\n";
  return out;
}

}  // namespace wexlo::cli
