#include "job/kit_report.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "base/contains.hpp"
#include "base/digest.hpp"
#include "figure/drawings.hpp"
#include "job/manifest.hpp"
#include "report/document.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

using report::Cell;
using report::Tone;

Tone tone_of(const FitRow& row) {
  if (row.verdict == FitVerdict::Fits) return Tone::Good;
  if (row.verdict == FitVerdict::Unknown) return Tone::Faint;
  return row.level == "problem" && !row.accepted ? Tone::Bad : Tone::Warning;
}

class ReportWriter {
 public:
  ReportWriter(KitFolder& folder, Prepared& kit, const PrepareOptions& options,
               const KitSources& sources)
      : folder_(folder),
        kit_(kit),
        options_(options),
        sources_(sources),
        context_(sources.context) {}

  Status run() {
    WEXLO_CHECK(folder_.make("figures"));
    head();
    fit_table();
    target();
    WEXLO_CHECK(images());
    WEXLO_CHECK(verified_boot());
    WEXLO_CHECK(room());
    plan("The plan", "plan", kit_.plan.first, kit_.plan.steps);
    plan("The way back", "back", kit_.plan.back_first, kit_.plan.back);
    firmware();
    digests();
    for_the_file();
    WEXLO_CHECK(add("report.html", report::to_html(document_)));
    return add("report.json", kit_report_json(kit_, options_, sources_.name()));
  }

 private:
  Status add(const std::string& name, const std::string& text) {
    WEXLO_TRY(PlanFile file, folder_.put(name, as_view(text)));
    kit_.files.push_back(std::move(file));
    return {};
  }

  Status figure(const std::string& name, const figure::Scene& scene, const std::string& caption) {
    const std::string svg = figure::to_svg(scene);
    document_.add(report::Figure{svg, caption});
    return add("figures/" + name + ".svg", svg);
  }

  void head() {
    const BuildFacts& build = kit_.build;
    document_.title = fmt::format("{} for {}", options_.stock ? "Stock kit" : "Kit",
                                  build.device.empty() ? "an unnamed device" : build.device);
    document_.subtitle = build.fingerprint;
    const auto fact = [&](std::string name, std::string text, Tone tone = Tone::Plain) {
      if (!text.empty()) document_.facts.emplace_back(std::move(name), Cell{std::move(text), tone});
    };
    fact("Firmware", sources_.name());
    fact("Build", build.fingerprint);
    fact("Security patch level", build.patch_level);
    fact("Purpose", kit_.purpose == Purpose::Restore  ? "put the stock images back"
                    : kit_.purpose == Purpose::Update ? "update a patched phone, and patch it again"
                                                      : "patch the build that the phone runs");
    if (options_.sheet) {
      const Sheet& sheet = *options_.sheet;
      fact("Phone", fmt::format("{} {}", sheet.text("phone.codename"), sheet.text("phone.model")));
      fact("Phone's build", sheet.text("build.fingerprint"));
    }
    std::string written;
    for (const PreparedImage& one : kit_.images)
      if (one.flashed) written += (written.empty() ? "" : ", ") + one.partition;
    for (const GivenPart& one : kit_.given)
      written += (written.empty() ? "" : ", ") + one.given.partition;
    fact("Written", written);
    const bool own = kit_.verification.needs == "own-key";
    fact("The phone has to be", own ? "locked with the kit's key, or unlocked" : "unlocked",
         Tone::Warning);
    const bool lost = std::ranges::any_of(kit_.plan.steps, &Step::data_loss);
    fact("User's data", lost ? "is erased by the plan" : "stays", lost ? Tone::Bad : Tone::Good);
    std::string name = "Mind";
    for (const Finding& one : kit_.findings) {
      if (one.level == "note") continue;
      fact(name, one.message, Tone::Warning);
      name.clear();
    }
  }

  void fit_table() {
    document_.add(report::Heading{"Fit", "fit"});
    if (kit_.fit.empty()) {
      document_.add(
          report::Text{"No sheet of a phone was given: whether the firmware fits was not "
                       "looked at.",
                       Tone::Warning});
      return;
    }
    report::Table table{{"what", "firmware", "phone", "verdict", "why it matters"}, {}};
    for (const FitRow& row : kit_.fit)
      table.rows.push_back(
          {{row.what},
           {row.firmware.empty() ? "unknown" : row.firmware, Tone::Mono},
           {row.phone.empty() ? "unknown" : row.phone, Tone::Mono},
           {std::string(verdict_name(row.verdict)) + (row.accepted ? ", accepted" : ""),
            tone_of(row)},
           {row.why, Tone::Faint}});
    document_.add(std::move(table));
  }

  void target() {
    document_.add(report::Heading{"Target", "target"});
    document_.add(
        report::Text{kit_.target.partition.empty()
                         ? kit_.target.reason
                         : fmt::format("{}: {}.", kit_.target.partition, kit_.target.reason)});
    document_.add(report::Text{
        fmt::format(
            "The phone takes images {}: {}. {}",
            kit_.shape.way == Way::Download ? "in download mode" : "from its bootloader",
            kit_.shape.way_why,
            kit_.shape.slotted
                ? fmt::format("It has {}: {}.", *kit_.shape.slotted ? "two slots" : "one slot",
                              kit_.shape.slots_why)
                : "Nothing says how many slots it has: it is taken to have two."),
        Tone::Faint});
  }

  Status images() {
    document_.add(report::Heading{"Images", "images"});
    for (const PreparedImage& image : kit_.images) {
      if (!image.flashed) continue;
      document_.add(
          report::Heading{fmt::format("{} ({})", image.partition, image.files.what), "", 3});
      edits(image);
      WEXLO_TRY(const LoadedImage* const stock, sources_.stock.get(image.partition, context_));
      if (stock == nullptr || options_.stock) {
        WEXLO_TRY(const LoadedImage one, load_image(image.patched.bytes, image.partition));
        WEXLO_CHECK(figure("bytes-" + image.partition,
                           draw_image(fmt::format("{}: what lies where", image.partition), one),
                           "The image as it is written."));
        continue;
      }
      WEXLO_TRY(const LoadedImage after, load_image(image.patched.bytes, image.partition));
      const std::string title = fmt::format("{}: before and after", image.partition);
      if (image.given) {
        WEXLO_TRY(const figure::Scene scene,
                  draw_difference(title, *stock, "stock", after, "given", context_));
        WEXLO_CHECK(figure("changes-" + image.partition, scene,
                           "The image was given: what differs from stock was not made here."));
        continue;
      }
      WEXLO_CHECK(figure(
          "changes-" + image.partition,
          draw_changes(title, *stock, "stock", after, image.files.what, image.patched.ranges),
          "Every byte that differs lies in one of these places."));
      document_.add(report::Text{image.patched.way_back.in_image
                                     ? "The way back: from the patched image alone, or the kit's "
                                       "stock copy."
                                     : fmt::format("The way back: the kit's stock copy ({}).",
                                                   image.patched.way_back.reason),
                                 Tone::Faint});
    }
    for (const GivenPart& part : kit_.given) {
      document_.add(report::Heading{fmt::format("{} (given)", part.given.partition), "", 3});
      document_.add(report::Text{fmt::format(
          "{}, {}{}. Build: {}.", part.given.kind.empty() ? "an image" : part.given.kind,
          human_size(part.given.size),
          part.logical.empty() ? ""
                               : fmt::format(", written to the logical partition {}", part.logical),
          part.given.build.fingerprint.empty() ? "not known" : part.given.build.fingerprint)});
    }
    return {};
  }

  void edits(const PreparedImage& image) {
    for (const auto* list : {&image.patched.edits, &image.patched.added})
      for (const EditReport& edit : *list) {
        if (edit.outcome == Outcome::Elsewhere || edit.outcome == Outcome::NoMatch) continue;
        document_.add(report::Text{
            fmt::format("{}: {} ({})", edit.recipe, edit.summary, outcome_name(edit.outcome))});
        for (const Effect& effect : edit.effects) {
          std::vector<std::string> lines{
              fmt::format("{}: {} -> {}", effect.where, effect.before, effect.after)};
          lines.insert(lines.end(), effect.diff.begin(), effect.diff.end());
          document_.add(report::Lines{std::move(lines)});
        }
      }
  }

  Status verified_boot() {
    document_.add(report::Heading{"Verified boot", "verified-boot"});
    document_.add(report::Text{kit_.verification.why});
    if (kit_.verification.walk.structs.empty()) return {};
    return figure("chain",
                  draw_chain("Verified boot with the kit's images", kit_.verification.walk),
                  "Structs and what they vouch for, with the kit's images in place.");
  }

  Status room() {
    if (kit_.given.empty() || kit_.super.partitions.empty()) return {};
    document_.add(report::Heading{"Logical partitions", "super"});
    for (const RoomPlan& one : kit_.rooms)
      document_.add(report::Text{one.why});
    return figure("super", draw_super("super: room for what is written", kit_.super, kit_.rooms),
                  "Sizes to scale; partitions are shown one behind the other, wherever they lie.");
  }

  void plan(const std::string& title, const std::string& id, const std::vector<std::string>& first,
            const std::vector<Step>& steps) {
    document_.add(report::Heading{title, id});
    for (const std::string& one : first)
      document_.add(report::Text{one, Tone::Warning});
    report::Numbered list;
    for (const Step& step : steps) {
      report::Numbered::Item item{.head = step.act};
      if (!step.partition.empty()) item.head += " " + step.partition;
      if (step.data_loss) item.tag = "data is lost";
      if (step.final)
        item.tag = item.tag.empty() ? "cannot be undone" : item.tag + ", cannot be undone";
      item.tag_tone = Tone::Bad;
      item.lines.push_back(step.about);
      if (step.act == "expect") {
        item.head += ": " + expectation(step);
        list.items.push_back(std::move(item));
        continue;
      }
      if (!step.file.empty()) item.lines.push_back("File: " + step.file);
      if (!step.settings.empty())
        item.lines.push_back(fmt::format("In the other program: {}; {}", step.field,
                                         fmt::join(step.settings, ", ")));
      for (const std::string& note : step.notes)
        item.lines.push_back("On this phone: " + note);
      if (!step.screen.empty()) item.lines.push_back("Screen: " + step.screen);
      item.lines.push_back(fmt::format("Done when {}. Usual time: {}.", step.success,
                                       usual_time(step.usual_seconds)));
      list.items.push_back(std::move(item));
    }
    document_.add(std::move(list));
  }

  void firmware() {
    document_.add(report::Heading{"Firmware", "firmware"});
    report::Table layers{{"shell", "detail"}, {}};
    for (const Layer& one : sources_.firmware().layers)
      layers.rows.push_back({{one.kind}, {one.detail, Tone::Faint}});
    document_.add(std::move(layers));
    report::Table table{{"partition", "size", "sha-256 that the package names"}, {}};
    for (const PartitionFacts& one : sources_.firmware().partitions)
      table.rows.push_back(
          {{one.name}, {human_size(one.size), Tone::Number}, {one.sha256, Tone::Mono}});
    document_.add(std::move(table));
    for (const std::string& line : kit_.build.demands)
      document_.add(report::Text{"The package says: " + line, Tone::Faint});
  }

  /// What is not in any file, to be filled in on paper.
  void for_the_file() {
    document_.add(report::Heading{"For the file", "file"});
    report::Table table{{"", ""}, {}};
    for (const char* name : {"Serial number", "Owner", "Date", "Done by", "What the phone showed"})
      table.rows.push_back({{name, Tone::Faint}, {""}});
    document_.add(std::move(table));
  }

  void digests() {
    document_.add(report::Heading{"Files of the kit", "digests"});
    report::Table table{{"file", "bytes", "sha-256"}, {}};
    const auto row = [&](const std::string& file, std::uint64_t size, const std::string& sha256) {
      if (!file.empty())
        table.rows.push_back(
            {{file, Tone::Mono}, {fmt::format("{}", size), Tone::Number}, {sha256, Tone::Mono}});
    };
    const auto image = [&](const PlanImage& one) {
      row(one.flash_file, one.size, one.flash_sha256);
      for (const PlanFile& piece : one.pieces)
        row(piece.file, piece.size, piece.sha256);
      row(one.stock_file, one.stock_size, one.stock_sha256);
      for (const PlanFile& piece : one.stock_pieces)
        row(piece.file, piece.size, piece.sha256);
    };
    for (const PreparedImage& one : kit_.images)
      if (one.flashed) image(one.files);
    for (const GivenPart& one : kit_.given)
      image(one.files);
    for (const PlanFile& one : kit_.files)
      row(one.file, one.size, one.sha256);
    document_.add(std::move(table));
  }

  KitFolder& folder_;
  Prepared& kit_;
  const PrepareOptions& options_;
  const KitSources& sources_;
  const Context& context_;
  report::Document document_;
};

}  // namespace

Status write_report(KitFolder& folder, Prepared& prepared, const PrepareOptions& options,
                    const KitSources& sources) {
  return ReportWriter(folder, prepared, options, sources).run();
}

}  // namespace wexlo
