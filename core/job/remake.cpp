#include "job/remake.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <array>
#include <set>

#include "base/contains.hpp"
#include "base/error_kinds.hpp"
#include "base/version.hpp"
#include "job/remake_options.hpp"
#include "kit/folder/record_part.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

/// What says something of the kit is told as a finding; what says something of this run, or of what
/// was typed, is an error of it. @param own  the error is about a file of the kit
bool speaks_of_kit(const Error& error, bool own) {
  if (is_of_this_run(error.code)) return false;
  return own || (error.code != ErrorCode::NotFound && error.code != ErrorCode::Permission &&
                 error.code != ErrorCode::LinkLost && error.code != ErrorCode::NeedsPerson);
}

class Remaking {
 public:
  Remaking(Kit kit, const RemakeOptions& options, const Context& context)
      : kit_(std::move(kit)), options_(options), context_(context) {}

  Result<RemadeKit> run() {
    out_.made_by = kit_.manifest().making.version;
    out_.this_one = version();
    // What does not open at all has nothing to do with the kit.
    WEXLO_TRY(const FirmwarePtr firmware, open_firmware(options_.firmware, {.context = context_}));
    tell_other_build(firmware->build);
    WEXLO_TRY(OutputFolder folder, temporary());
    WEXLO_TRY(const bool made, make(folder));
    if (!made) return std::move(out_);
    WEXLO_CHECK(compare_all(folder.path()));
    out_.outcome = out_.differs.empty() ? Remade::Same : Remade::Differs;
    tell();
    return std::move(out_);
  }

 private:
  /// Never named: it goes with this run.
  static Result<OutputFolder> temporary() {
    std::error_code error;
    const fs::path folder = fs::temp_directory_path(error);
    return OutputFolder::create((error ? fs::path("/tmp") : folder) / "wexlo-remake",
                                Overwrite::Refuse, std::string(kKitManifest));
  }

  void tell_other_build(const BuildFacts& build) {
    const std::string& wanted = kit_.manifest().build;
    if (wanted.empty() || build.fingerprint.empty() || wanted == build.fingerprint) return;
    out_.findings.push_back(
        usual_finding(FindingCode::RemakeFails,
                      fmt::format("The kit was made for the build {}, this firmware is {}.", wanted,
                                  build.fingerprint)));
  }

  Result<bool> make(OutputFolder& folder) {
    auto options = options_of_kit(kit_, options_.key, context_);
    if (!options) return told(options.error());
    options->base = options_.base;
    options->patch.allow_programs = options_.allow_programs;
    const auto made = prepare_into(options_.firmware, *options, folder, context_);
    if (!made) return told(folder.with_final_name(made.error()));
    if (!made->stopped) return true;
    out_.findings.push_back(usual_finding(
        FindingCode::RemakeFails,
        fmt::format("No kit comes of this firmware with the kit's own recipes and settings: "
                    "{}.",
                    fmt::join(stopping(*made), ", "))));
    return false;
  }

  Result<bool> told(const Error& error) {
    const std::string folder = kit_.folder().string() + "/";
    const bool own = error.file.starts_with(folder);
    if (!speaks_of_kit(error, own)) return fail(error);
    out_.findings.push_back(
        usual_finding(FindingCode::RemakeFails,
                      fmt::format("The kit could not be made again: {}", describe(error)),
                      own ? error.file.substr(folder.size()) : ""));
    return false;
  }

  /// What the kit says that it has, too: what was never of it is another check's matter.
  Status compare_all(const fs::path& again) {
    WEXLO_TRY(const std::set<std::string> made, names_below(again));
    std::set<std::string> names = made;
    for (const KitFile& one : files_of(kit_.manifest()))
      names.insert(one.file);
    for (const std::string& name : names) {
      WEXLO_CHECK(check_stop(context_));
      if (!made.contains(name)) {
        out_.differs.push_back({.file = name, .difference = {}});
        continue;
      }
      WEXLO_TRY(const SourcePtr theirs, as_made(again, name));
      ++out_.files;
      out_.bytes += theirs->size();
      const auto ours = as_made(kit_.folder(), name);
      if (!ours && is_of_this_run(ours.error().code)) return fail(ours.error());
      if (!ours) {
        out_.differs.push_back({.file = name, .difference = {}, .missing = true});
        continue;
      }
      WEXLO_TRY(auto difference, file_difference(*ours, theirs, name, context_));
      if (difference) out_.differs.push_back({name, std::move(*difference)});
    }
    return {};
  }

  /// The report without the record's page, which came later.
  static Result<SourcePtr> as_made(const fs::path& folder, const std::string& name) {
    WEXLO_TRY(SourcePtr source, open_file(folder / name));
    if (name != kReportFile) return source;
    SplitReport ignored;
    return report_as_made(*source, ignored);
  }

  void tell() {
    const bool other = out_.made_by != out_.this_one;
    if (other && !out_.differs.empty())
      out_.findings.push_back(usual_finding(
          FindingCode::RemakeVersion,
          fmt::format("Wexlo {} made the kit, this is {}: bytes may differ for that reason alone. "
                      "Take Wexlo {} to be sure.",
                      out_.made_by, out_.this_one, out_.made_by)));
    for (const RemadeFile& one : out_.differs) {
      Finding finding = usual_finding(FindingCode::RemakeDiffers, sentence(one), one.file);
      // Whether the other version or a change of the kit made them differ cannot be told from here.
      if (other) finding.level = Level::Warning;
      out_.findings.push_back(std::move(finding));
    }
  }

  static std::string sentence(const RemadeFile& one) {
    if (!one.difference)
      return one.missing ? "It is not in the kit, and the kit made again has it."
                         : "The kit made again does not have it.";
    const FileDifference& what = *one.difference;
    std::string out = fmt::format("It differs from offset {} on", what.offset);
    if (!what.part.empty()) out += fmt::format(" ({})", what.part);
    out += fmt::format(": the kit has {}, made again it is {}. {} of {} bytes differ.", what.a,
                       what.b, what.differing, std::max(what.size_a, what.size_b));
    return out;
  }

  const Kit kit_;
  const RemakeOptions& options_;
  const Context& context_;
  RemadeKit out_;
};

}  // namespace

std::string_view remade_word(Remade remade) {
  constexpr std::array<std::string_view, 3> words{"same", "differs", "not-made"};
  return words[static_cast<std::size_t>(remade)];
}

Result<RemadeKit> remake(const fs::path& kit, const RemakeOptions& options,
                         const Context& context) {
  WEXLO_TRY(Kit opened, Kit::open(kit));
  return Remaking(std::move(opened), options, context).run();
}

}  // namespace wexlo
