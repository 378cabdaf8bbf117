#include "report/kit_report.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "base/contains.hpp"
#include "base/digest.hpp"
#include "figure/drawings.hpp"
#include "kit/folder/manifest_json.hpp"
#include "kit/plan/plan_text.hpp"
#include "report/document.hpp"
#include "report/plan_json.hpp"
#include "report/rehearsal_page.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

using report::Cell;
using report::Tone;

Tone tone_of(const FitRow& row) {
  if (row.verdict == FitVerdict::Fits) return Tone::Good;
  if (row.verdict == FitVerdict::Unknown) return Tone::Faint;
  return row.level == Level::Problem && !row.accepted ? Tone::Bad : Tone::Warning;
}

class ReportWriter {
 public:
  ReportWriter(KitFolder& folder, const KitDraft& kit, const Firmware& firmware,
               const Rehearsal* rehearsal, const Context& context)
      : folder_(folder), kit_(kit), firmware_(firmware), rehearsal_(rehearsal), context_(context) {}

  Status run() {
    WEXLO_CHECK(folder_.make("figures"));
    head();
    fit_table();
    target();
    WEXLO_CHECK(images());
    WEXLO_CHECK(verified_boot());
    WEXLO_CHECK(room());
    if (rehearsal_ != nullptr) add_rehearsal(document_, *rehearsal_);
    plan("The plan", "plan", kit_.plan.first, kit_.plan.steps);
    plan("The way back", "back", kit_.plan.back_first, kit_.plan.back);
    firmware();
    digests();
    for_the_file();
    WEXLO_CHECK(add("report.html", report::to_html(document_)));
    return add("report.json", report_json(kit_));
  }

 private:
  Status add(const std::string& name, const std::string& text) {
    WEXLO_CHECK(folder_.put(name, as_view(text)));
    return {};
  }

  Status figure(const std::string& name, const figure::Scene& scene, const std::string& caption) {
    const std::string svg = figure::to_svg(scene);
    document_.add(report::Figure{svg, caption});
    return add("figures/" + name + ".svg", svg);
  }

  void head() {
    const BuildFacts& build = kit_.build;
    document_.title = fmt::format("{} for {}", is_restore() ? "Stock kit" : "Kit",
                                  build.device.empty() ? "an unnamed device" : build.device);
    document_.subtitle = build.fingerprint;
    const auto fact = [&](std::string name, std::string text, Tone tone = Tone::Plain) {
      if (!text.empty()) document_.facts.emplace_back(std::move(name), Cell{std::move(text), tone});
    };
    fact("Firmware", kit_.firmware);
    fact("Build", build.fingerprint);
    fact("Security patch level", build.patch_level);
    fact("Purpose", kit_.purpose == Purpose::Restore  ? "put the stock images back"
                    : kit_.purpose == Purpose::Update ? "update a patched phone, and patch it again"
                                                      : "patch the build that the phone runs");
    if (kit_.sheet) {
      const Sheet& sheet = *kit_.sheet;
      fact("Phone", fmt::format("{} {}", sheet.text("phone.codename"), sheet.text("phone.model")));
      fact("Phone's build", sheet.text("build.fingerprint"));
    }
    fact("Made by", kit_.settings.technician);
    std::string written;
    for (const KitImage& one : kit_.images)
      if (one.written) written += (written.empty() ? "" : ", ") + one.partition;
    fact("Written", written);
    const bool own = kit_.judged.verdict.needs == Needs::OwnKey;
    fact("The phone has to be", own ? "locked with the kit's key, or unlocked" : "unlocked",
         Tone::Warning);
    const bool lost =
        std::ranges::any_of(kit_.plan.steps, [](const Step& step) { return step.risk.data_loss; });
    fact("User's data", lost ? "is erased by the plan" : "stays", lost ? Tone::Bad : Tone::Good);
    std::string name = "Mind";
    for (const Finding& one : kit_.findings) {
      if (one.level == Level::Note) continue;
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
    for (const KitImage& image : kit_.images) {
      if (!image.written) continue;
      document_.add(
          report::Heading{fmt::format("{} ({})", image.partition, made_word(image.made)), "", 3});
      if (image.is_held())
        WEXLO_CHECK(held_image(image));
      else
        large_image(image);
    }
    return {};
  }

  /// What differs from stock, as a figure; of stock images and those without a twin, what is where.
  Status held_image(const KitImage& image) {
    edits(image);
    WEXLO_TRY(const LoadedImage after, load_image(image.patched.bytes, image.partition));
    if (!image.stock || is_restore())
      return figure("bytes-" + image.partition,
                    draw_image(fmt::format("{}: what lies where", image.partition), after),
                    "The image as it is written.");
    WEXLO_TRY(const LoadedImage stock, load_image(image.stock_bytes, image.partition));
    const std::string title = fmt::format("{}: before and after", image.partition);
    if (image.made == Made::Given) {
      WEXLO_TRY(const figure::Scene scene,
                draw_difference(title, stock, "stock", after, "given", context_));
      return figure("changes-" + image.partition, scene,
                    "The image was given: what differs from stock was not made here.");
    }
    WEXLO_CHECK(figure("changes-" + image.partition,
                       draw_changes(title, stock, "stock", after,
                                    std::string(made_word(image.made)), image.patched.ranges),
                       "Every byte that differs lies in one of these places."));
    document_.add(report::Text{image.patched.way_back.in_image
                                   ? "The way back: from the patched image alone, or the kit's "
                                     "stock copy."
                                   : fmt::format("The way back: the kit's stock copy ({}).",
                                                 image.patched.way_back.reason),
                               Tone::Faint});
    return {};
  }

  void large_image(const KitImage& image) {
    const Given& given = *image.given;
    document_.add(report::Text{fmt::format(
        "{}, {}{}. Build: {}.", given.kind.empty() ? "an image" : given.kind,
        human_size(image.size()),
        image.is_logical() ? fmt::format(", written to the logical partition {}", image.logical)
                           : "",
        given.build.fingerprint.empty() ? "not known" : given.build.fingerprint)});
  }

  void edits(const KitImage& image) {
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
    document_.add(report::Text{kit_.judged.verdict.why});
    if (kit_.judged.walk.structs.empty()) return {};
    return figure("chain", draw_chain("Verified boot with the kit's images", kit_.judged.walk),
                  "Structs and what they cover, with the kit's images in place.");
  }

  Status room() {
    const bool large = std::ranges::any_of(
        kit_.images, [](const KitImage& one) { return one.written && !one.is_held(); });
    const SuperChange& super = kit_.super;
    if (!large || super.before.partitions.empty()) return {};
    document_.add(report::Heading{"Logical partitions", "super"});
    for (const RoomPlan& one : super.rooms)
      document_.add(report::Text{one.why});
    return figure("super", draw_super("super: room for what is written", super.before, super.rooms),
                  "Sizes to scale; partitions are shown one behind the other, wherever they lie.");
  }

  static report::Numbered::Item plan_item(const Step& step) {
    report::Numbered::Item item{.head = std::string(act_word(step.act))};
    if (const std::string_view partition = partition_of(step.act); !partition.empty())
      item.head += fmt::format(" {}", partition);
    if (step.risk.data_loss) item.tag = "data is lost";
    if (step.risk.final)
      item.tag = item.tag.empty() ? "cannot be undone" : item.tag + ", cannot be undone";
    item.tag_tone = Tone::Bad;
    item.lines.push_back(step.about);
    if (const auto* one = step.get<act::Expect>()) {
      item.head += ": " + expectation(*one);
      return item;
    }
    if (const KitFile* file = file_of(step.act)) item.lines.push_back("File: " + file->file);
    if (const auto* one = step.get<act::HandOver>())
      item.lines.push_back(
          fmt::format("In the other program: {}; {}", one->field, fmt::join(one->settings, ", ")));
    for (const std::string& note : step.notes)
      item.lines.push_back("On this phone: " + note);
    if (!step.screen.empty()) item.lines.push_back("Screen: " + step.screen);
    item.lines.push_back(
        fmt::format("Done when {}. Usual time: {}.", step.success, usual_time(step.usual_seconds)));
    return item;
  }

  void plan(const std::string& title, const std::string& id, const std::vector<std::string>& first,
            const std::vector<Step>& steps) {
    document_.add(report::Heading{title, id});
    for (const std::string& one : first)
      document_.add(report::Text{one, Tone::Warning});
    report::Numbered list;
    for (const Step& step : steps)
      list.items.push_back(plan_item(step));
    document_.add(std::move(list));
  }

  void firmware() {
    document_.add(report::Heading{"Firmware", "firmware"});
    report::Table layers{{"shell", "detail"}, {}};
    for (const Layer& one : kit_.making.package.shells)
      layers.rows.push_back({{one.kind}, {one.detail, Tone::Faint}});
    document_.add(std::move(layers));
    report::Table table{{"partition", "size", "sha-256 that the package names"}, {}};
    for (const PartitionFacts& one : firmware_.partitions)
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
    for (const auto& [name, file] : folder_.written())
      table.rows.push_back({{name, Tone::Mono},
                            {fmt::format("{}", file.size), Tone::Number},
                            {file.sha256, Tone::Mono}});
    document_.add(std::move(table));
  }

  [[nodiscard]] bool is_restore() const { return kit_.purpose == Purpose::Restore; }

  KitFolder& folder_;
  const KitDraft& kit_;
  const Firmware& firmware_;
  const Rehearsal* rehearsal_;
  const Context& context_;
  report::Document document_;
};

}  // namespace

Status write_report(KitFolder& folder, const KitDraft& draft, const Firmware& firmware,
                    const Rehearsal* rehearsal, const Context& context) {
  return ReportWriter(folder, draft, firmware, rehearsal, context).run();
}

}  // namespace wexlo
