#include "prepare_text.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "kit/plan/plan_text.hpp"
#include "text/text.hpp"

namespace wexlo::cli {

std::string fit_reasons(const std::vector<FitRow>& rows) {
  std::string out;
  for (const FitRow& row : rows)
    if (row.verdict == FitVerdict::Differs)
      out += fmt::format("  {}{}: {}\n", row.what,
                         row.level == Level::Problem ? " [" + row.id.text() + "]" : "",
                         printable(row.why));
  return out;
}

namespace {

/// Two builds of one device are told by what stands behind the colon.
std::size_t shared_start(const std::string& one, const std::string& other) {
  const std::size_t colon = one.find(':');
  return colon != one.npos && other.compare(0, colon + 1, one, 0, colon + 1) == 0 ? colon + 1 : 0;
}

/// What the phone has beside what the firmware has.
std::string beside(const FitRow& row) {
  if (row.phone.empty()) return "unknown";
  if (row.firmware == row.phone) return "the same";
  const std::size_t same = shared_start(row.firmware, row.phone);
  return same > 0 ? "…" + printable(row.phone.substr(same)) : printable(row.phone);
}

std::string verdict_text(const Paint& paint, const FitRow& row) {
  const std::string word(verdict_name(row.verdict));
  if (row.verdict == FitVerdict::Fits) return paint.good(word);
  if (row.verdict == FitVerdict::Unknown) return paint.faint(word);
  if (row.accepted) return paint.warning("accepted");
  return row.level == Level::Problem ? paint.bad(word) : paint.warning(word);
}

/// A row each, and below them the reasons of what differs.
std::string fit_text(const Session& session, const std::vector<FitRow>& rows) {
  if (rows.empty())
    return "\n" + session.paint.heading("Does it fit the phone?") +
           "\n  not known: no sheet was given (--sheet). wexlo sheet makes one of the phone's "
           "properties.\n";
  const Paint& paint = session.paint;
  Table table({"verdict", "what", "firmware", "phone"});
  for (const FitRow& row : rows)
    table.row({verdict_text(paint, row), row.what,
               row.firmware.empty() ? "unknown" : printable(row.firmware), beside(row)});
  return "\n" + paint.heading("Does it fit the phone?") + "\n" + table.text(paint) +
         fit_reasons(rows);
}

/// The steps by their titles; with their reasons where nothing is written, or more is asked for.
std::string steps_text(const Session& session, const std::vector<Step>& steps, bool reasons) {
  Table full({">#", "step", "what and why"}), brief({">#", "step", ""});
  for (const StepGroup& group : grouped(steps)) {
    const Step& step = steps[group.first];
    if (!step.is<act::Expect>()) {
      const std::string lost = step.risk.data_loss ? "data is lost" : "";
      full.row(
          {group.number(), step_title(step), step.about + (lost.empty() ? "" : " (" + lost + ")")});
      brief.row({group.number(), step_title(step), session.paint.bad(lost)});
      continue;
    }
    brief.row({group.number(),
               fmt::format("Check {} values of the phone", group.last - group.first + 1), ""});
    std::string number = group.number(), title = "Check";
    for (const std::string& one : expectation_lines(steps, group)) {
      full.row({number, title, one});
      number = title = "";
    }
  }
  return (reasons ? full : brief).text(session.paint);
}

/// An edit that was tried here and found its place in another image is no news here.
std::vector<EditReport> worth_showing(const KitDraft& kit, const KitImage& image) {
  std::vector<EditReport> out;
  for (std::size_t i = 0; i < image.patched.edits.size(); ++i) {
    const EditReport& edit = image.patched.edits[i];
    const bool elsewhere = std::ranges::any_of(kit.images, [&](const KitImage& other) {
      // One that was given, or is put back, had no edits tried on it.
      const auto& tried = other.patched.edits;
      return i < tried.size() &&
             (tried[i].outcome == Outcome::Applied || tried[i].outcome == Outcome::AlreadyDone);
    });
    const bool here = edit.outcome != Outcome::NoMatch && edit.outcome != Outcome::Elsewhere;
    if (here || !elsewhere) out.push_back(edit);
  }
  return out;
}

/// What an update brought, for who applies old recipes to it.
std::string differences_text(const Session& session, const PrepareArguments& options,
                             const KitDraft& kit) {
  if (options.like.empty()) return {};
  std::string out = "\n" + session.paint.heading("Against the kit before") + "\n";
  if (kit.differences.empty())
    return out + "  kernel, init, fstab, command line and room are as they were\n";
  for (const BuildDifference& one : kit.differences) {
    out += fmt::format("  {} {}: {} -> {}\n", one.partition, printable(one.what),
                       printable(one.before), printable(one.after));
    for (const std::string& line : one.diff)
      out += fmt::format("    {}\n", printable(line));
  }
  return out;
}

/// An image that is written as it was given, from a file.
std::string large_text(const KitImage& image) {
  return fmt::format(
      "as given: {}{}{}\n", human_size(image.size()),
      image.is_logical() ? ", logical partition " + image.logical : "",
      image.flash.pieces.empty() ? "" : fmt::format(", in {} pieces", image.flash.pieces.size()));
}

std::string state_text(const PrepareArguments& options, const KitImage& image) {
  if (!image.written) return "left as it is";
  if (image.made == Made::Given) return "as given";
  if (image.made == Made::Stock) return "stock";
  return options.dry_run ? "would be changed" : "-> " + image.flash.file;
}

std::string image_text(const Session& session, const PrepareArguments& options, const KitDraft& kit,
                       const KitImage& image) {
  const std::string name = session.paint.heading(image.partition);
  if (image.written && !image.is_held()) return fmt::format("\n{} {}", name, large_text(image));
  std::string out = fmt::format("\n{} {}\n", name, state_text(options, image));
  const Shown shown = options.dry_run ? Shown::Effects : Shown::Details;
  out += edits_text(session, worth_showing(kit, image), shown);
  out += edits_text(session, image.patched.added, Shown::Effects);
  if (session.globals.verbose) out += ranges_text(session, image.patched.ranges);
  if (!image.written || image.made != Made::Patched) return out;
  std::uint64_t bytes = 0;
  for (const ChangedRange& range : image.patched.ranges)
    bytes += range.size;
  out += fmt::format("  differs from stock in {}, {}, each accounted for\n",
                     counted(image.patched.ranges.size(), "place"), counted(bytes, "byte"));
  return out + "  " + way_back_text(image.patched.way_back);
}

std::string title_text(const PrepareArguments& options, const Prepared& done) {
  if (done.stopped) return "No kit: problems were found";
  if (options.dry_run) return "Dry run: nothing is written";
  return fmt::format("Kit ready: {}", printable(options.kit));
}

}  // namespace

std::string prepare_text(const Session& session, const PrepareArguments& options,
                         const Prepared& done) {
  const KitDraft& kit = done.kit;
  std::string out = session.paint.heading(title_text(options, done)) + "\n";
  const auto line = [&](std::string_view name, std::string_view value) {
    if (!value.empty()) out += fmt::format("  {:<14}{}\n", name, printable(value));
  };
  line("device", kit.build.device);
  line("build", kit.build.fingerprint);
  line("patch level", kit.build.patch_level);
  line("target", kit.target.partition.empty()
                     ? kit.target.reason
                     : fmt::format("{}: {}", kit.target.partition, kit.target.reason));
  out += fit_text(session, kit.fit);
  if (done.stopped) return out + "\n";
  for (const KitImage& image : kit.images)
    // Looked at for mount points, say, and none was there.
    if (image.written || !worth_showing(kit, image).empty())
      out += image_text(session, options, kit, image);
  if (kit.install)
    out += fmt::format("\n{} {}, from recovery{}\n", session.paint.heading("install"),
                       printable(kit.install->file),
                       kit.install->payload ? "; it lands on the other slot" : "");
  out += differences_text(session, options, kit);
  const KitVerdict& verdict = kit.judged.verdict;
  out += "\n" + session.paint.heading("Verified boot") + "\n";
  line("needs",
       verdict.needs == Needs::OwnKey ? "a phone that trusts your key" : "an unlocked bootloader");
  line("", verdict.why);
  if (done.rehearsal) {
    out += "\n" + session.paint.heading("The plan, rehearsed on a simulated phone") + "\n";
    line("phone",
         fmt::format("{}: {}", start_word(done.rehearsal->verdict), done.rehearsal->reason));
    if (done.rehearsal->back)
      line("way back", done.rehearsal->back->stock_again
                           ? "every image is stock again, byte for byte"
                           : done.rehearsal->back->reason);
  }
  out += "\n" + session.paint.heading("The plan") + "\n" +
         steps_text(session, kit.plan.steps, options.dry_run || session.globals.verbose);
  return out + fmt::format("  the way back: {} steps, with the stock images in stock/\n\n",
                           kit.plan.back.size());
}

std::string prepare_ending(const Session& session, const PrepareArguments& options,
                           const Prepared& done) {
  if (done.stopped || options.dry_run) return {};
  const std::string kit = printable(options.kit);
  std::string next, undo;
  const auto line = [&](std::string& to, const std::string& command, std::string_view about) {
    to += fmt::format("  {}\n      {}\n", session.paint.good(command), about);
  };
  line(next, fmt::format("wexlo check {}", kit), "is the kit whole? (before the phone is touched)");
  line(next, fmt::format("less {}/plan.txt", kit),
       fmt::format("the steps for the bench, about {}",
                   usual_time(whole_time(done.kit.plan.steps))));
  line(next, fmt::format("wexlo flash {} --phone fastboot+usb://", kit),
       "play the steps on the phone: it asks before anything is lost");
  line(next, fmt::format("xdg-open {}/report.html", kit), "the report, to be filed with the phone");
  line(undo, fmt::format("less {}/plan.txt", kit), "\"The way back\": the stock images of stock/");
  for (const KitImage& image : done.kit.images)
    if (image.written && image.made == Made::Patched && image.patched.way_back.in_image) {
      line(undo,
           fmt::format("wexlo restore {}/{} -o {}-stock.img", kit, image.flash.file,
                       image.partition),
           "the stock image out of the patched one alone");
      break;
    }
  return "\n" + session.paint.heading("What comes next") + "\n" + next + "\n" +
         session.paint.heading("To undo it") + "\n" + undo;
}

}  // namespace wexlo::cli
