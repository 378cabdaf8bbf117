#include "job/diagnose.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/contains.hpp"
#include "base/error_kinds.hpp"
#include "image/partitions.hpp"
#include "job/confirm.hpp"
#include "judge/phone_set.hpp"
#include "kit/folder/kit_folder.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

using Images = std::map<std::string, SourcePtr>;

class PhoneDiagnosis {
 public:
  PhoneDiagnosis(const DiagnoseOptions& options, const Context& context)
      : options_(options), context_(context) {}

  Result<DiagnosedPhone> run() {
    out_.kit = is_kit(options_.path);
    if (!options_.firmware.empty()) WEXLO_CHECK(add_set(options_.firmware, input_.stock));
    if (out_.kit)
      WEXLO_CHECK(read_kit());
    else
      WEXLO_CHECK(add_set(options_.path, input_.given));
    for (const auto& [name, image] : input_.given)
      out_.looked_at.push_back(name);
    for (const auto& [name, image] : input_.stock)
      out_.stock.push_back(name);
    if (!sheet_) sheet_ = options_.sheet;
    if (sheet_) input_.sheet = &*sheet_;
    if (options_.observed) input_.observed = &*options_.observed;
    input_.symptom = options_.symptom;
    WEXLO_TRY(out_.diagnosis, diagnose(input_, context_));
    return std::move(out_);
  }

 private:
  /// Those that take part in a start, of any file, folder or package.
  Status add_set(const std::string& path, Images& out) {
    PhoneSet& set = sets_.emplace_back();
    WEXLO_CHECK(set.add(path, context_));
    for (const PhoneSet::Member& member : set.members()) {
      const std::string bare(without_slot(member.name));
      if (partition_class(bare) == PartitionClass::Other || out.contains(bare)) continue;
      auto source = PhoneSet::source(member, context_);
      if (!source && is_of_this_run(source.error().code)) return fail(source.error());
      if (!source) continue;  // its package does not give it: nothing can be said of it
      out.emplace(bare, std::move(*source));
    }
    return {};
  }

  Status read_kit() {
    WEXLO_TRY(Kit kit, Kit::open(options_.path));
    kit_.emplace(std::move(kit));
    WEXLO_TRY(const KitState state, kit_->verify(context_));
    out_.findings = state.findings;
    WEXLO_TRY(plan_, kit_->plan());
    if (!options_.sheet) {
      // One that was changed is told already, and not believed.
      auto sheet = kit_->sheet(context_);
      if (!sheet && is_of_this_run(sheet.error().code)) return fail(sheet.error());
      if (sheet) sheet_ = std::move(*sheet);
    }
    for (const KitImage& image : kit_->manifest().images) {
      const std::string bare(without_slot(image.partition));
      if (partition_class(bare) == PartitionClass::Other) continue;
      take(image.flash.file, bare, input_.given);
      if (!input_.stock.contains(bare)) take(image.stock_files.file, bare, input_.stock);
    }
    const Seen* const serial = options_.observed ? options_.observed->find(Fact::Serial) : nullptr;
    const std::string number = serial == nullptr ? "" : serial->value;
    WEXLO_TRY(runs_, runs_of_kit(*kit_, options_.log, number));
    WEXLO_TRY(expected_, expected_of_kit(*kit_, options_.log, number, context_));
    input_.kit = &kit_->manifest();
    input_.plan = &plan_;
    input_.runs = &runs_;
    input_.expected = &expected_;
    return {};
  }

  /// A file that is gone, or in pieces, is left out: `check` tells of it.
  void take(const std::string& file, const std::string& partition, Images& out) const {
    if (file.empty()) return;
    if (auto source = kit_->file(file)) out.emplace(partition, std::move(*source));
  }

  const DiagnoseOptions& options_;
  const Context& context_;
  std::vector<PhoneSet> sets_;
  std::optional<Kit> kit_;
  std::optional<Sheet> sheet_{};  ///< the one that was given, else the kit's own
  Plan plan_;
  std::vector<LoggedRun> runs_;
  Expected expected_;
  DiagnoseInput input_;
  DiagnosedPhone out_;
};

}  // namespace

Result<DiagnosedPhone> diagnose_phone(const DiagnoseOptions& options, const Context& context) {
  return PhoneDiagnosis(options, context).run();
}

std::string way_back_text(Cause cause, const std::string& kit, const std::string& firmware) {
  constexpr std::string_view kMark = "{back}";
  std::string back = "Write the stock images of this very build again.";
  if (!kit.empty())
    back = fmt::format("Put the stock images back: wexlo flash {} --phone ADDRESS --back.",
                       shell_word(kit));
  else if (!firmware.empty())
    back = fmt::format(
        "Put the stock images back: wexlo prepare {} --stock -o KIT, then wexlo flash KIT.",
        shell_word(firmware));
  std::string out(row_of(row_of(cause).way).text);
  if (const std::size_t at = out.find(kMark); at != std::string::npos)
    out.replace(at, kMark.size(), back);
  return out;
}

}  // namespace wexlo
