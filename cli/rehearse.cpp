#include "job/rehearse.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "base/contains.hpp"
#include "commands.hpp"
#include "edits.hpp"
#include "options.hpp"
#include "play_text.hpp"
#include "reply.hpp"
#include "report/rehearsal_page.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

struct RehearseArguments {
  std::string kit, sheet, firmware;
  std::vector<std::string> faults;
};

std::string addon_text(AddonSeen addon) {
  switch (addon) {
    case AddonSeen::Seen: return "seen: what the recipe put in is in what runs";
    case AddonSeen::NotSeen: return "not seen in what runs";
    case AddonSeen::None: break;
  }
  return "none: no recipe put anything into a ramdisk that starts";
}

std::string rehearsal_text(const Session& session, const Plan& plan, const Rehearsal& rehearsal) {
  const Paint& paint = session.paint;
  std::string out = paint.heading("The plan, on a simulated phone") + "\n" +
                    played_text(paint, plan.steps, rehearsal.steps, session.globals.verbose);
  if (!rehearsal.boot_log.empty()) {
    out += "\n" + paint.heading("What the start showed") + "\n";
    for (const std::string& line : rehearsal.boot_log)
      out += "  " + paint.faint(printable(line)) + "\n";
  }
  if (!rehearsal.back) return out;
  return out + "\n" + paint.heading("The way back, on the same phone") + "\n" +
         played_text(paint, plan.back, rehearsal.back->steps, session.globals.verbose);
}

std::string ending(const Session& session, const Rehearsal& rehearsal) {
  const Paint& paint = session.paint;
  std::string out = fmt::format("  {:<10}{}: {}\n", "phone", start_text(paint, rehearsal.verdict),
                                printable(rehearsal.reason));
  out += fmt::format("  {:<10}{}\n", "add-on", addon_text(rehearsal.addon));
  if (rehearsal.back)
    out +=
        fmt::format("  {:<10}{}: {} {}\n", "way back", start_text(paint, rehearsal.back->verdict),
                    printable(rehearsal.back->reason),
                    rehearsal.back->stock_again ? "Every image is stock again, byte for byte."
                                                : "Not every image is the stock one again.");
  if (!rehearsal.not_here.empty())
    out += fmt::format("  {:<10}{}: --against FIRMWARE looks at them\n", "not here",
                       fmt::join(rehearsal.not_here, ", "));
  return "\n" + out;
}

Result<Reply> run_rehearse(const RehearseArguments& options, const Session& session) {
  RehearseOptions wish{.sheet = {}, .faults = {}, .firmware = options.firmware};
  for (const std::string& one : options.faults) {
    WEXLO_TRY(Fault fault, parse_fault(one));
    wish.faults.push_back(std::move(fault));
  }
  if (!options.sheet.empty()) {
    WEXLO_TRY(wish.sheet, read_sheet(sheet_file(options.sheet, session.settings)));
  }
  WEXLO_TRY(const Kit kit, Kit::open(options.kit));
  WEXLO_TRY(const KitState state, kit.verify(session.context));
  WEXLO_TRY(const Plan plan, kit.plan());
  WEXLO_TRY(const Rehearsal rehearsal, rehearse_kit(kit, wish, session.context));
  Reply reply;
  reply.findings = state.findings;
  reply.result = rehearsal_json(rehearsal);
  reply.text = rehearsal_text(session, plan, rehearsal);
  reply.ending = ending(session, rehearsal);
  reply.reasons = reply.ending;
  const bool whole = !contains(state.findings, Level::Problem, &Finding::level);
  reply.well = whole && !rehearsal.stops() && rehearsal.verdict != StartVerdict::CannotTell;
  return reply;
}

}  // namespace

void add_rehearse(Commands& commands, Session& session, int& exit_code) {
  auto options = std::make_shared<RehearseArguments>();
  Command(commands, "rehearse")
      .operand("KIT", options->kit, "The kit")
      .option("--sheet", "SHEET", options->sheet, "The phone that is simulated")
      .option("--against", "FIRMWARE", options->firmware,
              "The stock firmware: images that are not in the kit are taken from it")
      .option("--fault", "FAULT", options->faults, "Something that goes wrong: " + fault_forms())
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "rehearse", run_rehearse(*options, session));
      });
}

}  // namespace wexlo::cli
