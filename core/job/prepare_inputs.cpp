#include "job/prepare_inputs.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "base/contains.hpp"
#include "base/error_kinds.hpp"
#include "firmware/build_text.hpp"
#include "firmware/extract.hpp"
#include "kit/verdict/given_judge.hpp"

namespace wexlo {
namespace {

Purpose purpose_of(const PrepareOptions& options, const BuildFacts& build) {
  if (options.stock) return Purpose::Restore;
  const bool other = !options.older.build.empty() && !build.fingerprint.empty() &&
                     options.older.build != build.fingerprint;
  return other ? Purpose::Update : Purpose::Patch;
}

/// Without the older build a partition that is stored as changes to it is not there. One that a kit
/// may need ends the job; the others are told.
Status judge_incremental(const Firmware& firmware, const std::filesystem::path& path,
                         std::vector<Finding>& findings) {
  std::string needed;
  for (const PartitionFacts& one : firmware.partitions) {
    if (!one.incremental) continue;
    if (partition_class(without_slot(one.name)) != PartitionClass::Other) {
      needed += (needed.empty() ? "" : ", ") + one.name;
      continue;
    }
    findings.push_back(
        usual_finding(FindingId(FindingCode::IncrementalPart, one.name),
                      fmt::format("{} is stored as changes to the build before: nothing is taken "
                                  "from it.",
                                  one.name),
                      one.name));
  }
  if (needed.empty()) return {};
  const std::string& base = firmware.build.base;
  return fail({.code = ErrorCode::Unsupported,
               .message = fmt::format("{} {} stored as changes to the build before", needed,
                                      needed.contains(',') ? "are" : "is"),
               .file = path.string(),
               .expected = base.empty() ? "whole images" : "whole images, or the build " + base,
               .found = "an incremental package",
               .hint = fmt::format(
                   "Take the full package, or give the older build with --base. Or make whole "
                   "images first: wexlo extract {} --all --base OLDER -o DIR, then wexlo prepare "
                   "DIR.",
                   path.filename().string())});
}

/// The boot chain, what settles the target in front, then the longest: nothing shall wait for it
/// alone at the end.
std::vector<std::string> in_order_of_use(const Firmware& firmware) {
  std::vector<std::string> out = boot_chain(firmware);
  const auto size = [&](const std::string& name) {
    const auto facts = firmware.choose(name, "");
    return facts ? (*facts)->size : 0;
  };
  std::ranges::stable_sort(out, std::ranges::greater(), size);
  std::ranges::stable_partition(
      out, [](const std::string& name) { return without_slot(name) == "init_boot"; });
  return out;
}

/// What the package does not say of its build, and what was too dear to look for when it was
/// opened: the images are read in any case.
Status complete_build(PrepareInputs& in, const Context& context) {
  BuildFacts& build = in.firmware->build;
  for (const std::string_view name : speaking_partitions()) {
    if (!build.fingerprint.empty() && !build.patch_level.empty()) return {};
    in.begin_reading(context);
    const auto image = in.stock->get(std::string(name), context);
    if (!image && is_of_this_run(image.error().code)) return fail(image.error());
    if (image && *image != nullptr) facts_from_image((*image)->bytes.view(), build);
  }
  return {};
}

/// The same sign is told in the words of then: the package may have another name now.
void keep_words(const FlashingSigns& then, FlashingSigns& now) {
  if (!then.download.empty() && !now.download.empty()) now.download = then.download;
  if (!then.bootloader.empty() && !now.bootloader.empty()) now.bootloader = then.bootloader;
}

Status open_given_files(const PrepareOptions& options, PrepareInputs& out, const Context& context) {
  for (const GivenFile& file : options.given) {
    WEXLO_TRY(Given given, open_given(file, out.findings, context));
    if (!given.partition.empty()) {
      out.given.push_back(std::move(given));
      continue;
    }
    if (out.install)
      return fail({.code = ErrorCode::Usage,
                   .message = "one system package can be installed, not several",
                   .file = file.file});
    out.install = std::move(given);
  }
  return {};
}

}  // namespace

void PrepareInputs::begin_reading(const Context& context) {
  if (!std::exchange(reading, true)) stock->read_ahead(in_order_of_use(*firmware), context);
}

bool PrepareInputs::lands_elsewhere(const PhoneShape& shape) const {
  if (!shape.slotted.value_or(true) || shape.way == Way::Download) return false;
  const bool update =
      purpose == Purpose::Update && contains(firmware->layers, "payload", &Layer::kind);
  return update || (install && install->payload);
}

Result<PrepareInputs> open_inputs(const std::filesystem::path& firmware,
                                  const PrepareOptions& options, const Context& context) {
  PrepareInputs out{.path = firmware};
  Opening opening{.context = context};
  if (!options.base.empty()) {
    WEXLO_TRY(FirmwarePtr base, open_firmware(options.base, {.context = context}));
    opening.base = std::make_shared<const BaseImages>(std::move(base), options.base);
  }
  WEXLO_TRY(out.firmware, open_firmware(firmware.string(), opening));
  if (options.before) keep_words(options.before->package.signs, out.firmware->signs);
  if (options.sheet) out.firmware->slot = options.sheet->text("state.current_slot");
  out.stock = std::make_unique<StockImages>(*out.firmware, firmware.string(), options.cache);
  WEXLO_CHECK(complete_build(out, context));
  out.purpose = purpose_of(options, out.firmware->build);
  out.findings = judge_older_phone(options.older.device, options.older.build, out.firmware->build);
  if (options.base.empty()) WEXLO_CHECK(judge_incremental(*out.firmware, firmware, out.findings));
  WEXLO_CHECK(look_at_siblings(*out.firmware, firmware.string(), out.findings, context));
  WEXLO_CHECK(open_given_files(options, out, context));
  return out;
}

Result<Target> find_target(StockImages& stock, const std::vector<Recipe>& recipes,
                           const Context& context) {
  const bool creates = std::ranges::any_of(
      recipes, [](const Recipe& one) { return contains(one.edits, true, &Edit::creates); });
  std::vector<Candidate> candidates;
  // init_boot settles it alone when it can, so that the others need not be read.
  for (const std::string_view name : ramdisk_partitions(RamdiskOrder::Target)) {
    const std::string partition(name);
    WEXLO_TRY(const LoadedImage* const image, stock.get(partition, context));
    if (image == nullptr) continue;
    candidates.push_back({partition, image});
    auto target = choose_target(candidates, context, creates);
    if (target) return target;
    // What does not read is not passed over for the next one.
    if (target.error().code != ErrorCode::NoTarget)
      return fail(in_file(std::move(target).error(), stock.where()));
  }
  auto target = choose_target(candidates, context, creates);
  return fail(in_file(std::move(target).error(), stock.where()));
}

}  // namespace wexlo
