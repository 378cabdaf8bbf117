#include "job/prepare_inputs.hpp"

#include "base/contains.hpp"
#include "kit/verdict/given_judge.hpp"

namespace wexlo {
namespace {

Purpose purpose_of(const PrepareOptions& options, const BuildFacts& build) {
  if (options.stock) return Purpose::Restore;
  const bool other = !options.older.build.empty() && !build.fingerprint.empty() &&
                     options.older.build != build.fingerprint;
  return other ? Purpose::Update : Purpose::Patch;
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

bool PrepareInputs::lands_elsewhere(const PhoneShape& shape) const {
  if (!shape.slotted.value_or(true) || shape.way == Way::Download) return false;
  const bool update =
      purpose == Purpose::Update && contains(firmware->layers, "payload", &Layer::kind);
  return update || (install && install->payload);
}

Result<PrepareInputs> open_inputs(const std::filesystem::path& firmware,
                                  const PrepareOptions& options, const Context& context) {
  PrepareInputs out{.path = firmware};
  WEXLO_TRY(out.firmware, open_firmware(firmware.string(), {.context = context}));
  if (out.firmware->incremental)
    return fail({.code = ErrorCode::Unsupported,
                 .message = "an incremental package holds no whole images",
                 .file = firmware.string(),
                 .hint = "Take the full package of the build."});
  out.stock = std::make_unique<StockImages>(*out.firmware, firmware.string(), options.cache);
  out.purpose = purpose_of(options, out.firmware->build);
  out.findings = judge_older_phone(options.older.device, options.older.build, out.firmware->build);
  WEXLO_CHECK(look_at_siblings(*out.firmware, firmware.string(), out.findings, context));
  WEXLO_CHECK(open_given_files(options, out, context));
  return out;
}

Result<Target> find_target(StockImages& stock, const Context& context) {
  std::vector<Candidate> candidates;
  // init_boot settles it alone when it can, so that the others need not be read.
  for (const std::string_view name : ramdisk_partitions(RamdiskOrder::Target)) {
    const std::string partition(name);
    WEXLO_TRY(const LoadedImage* const image, stock.get(partition, context));
    if (image == nullptr) continue;
    candidates.push_back({partition, image});
    auto target = choose_target(candidates, context);
    if (target) return target;
    // What does not read is not passed over for the next one.
    if (target.error().code != ErrorCode::NoTarget)
      return fail(in_file(std::move(target).error(), stock.where()));
  }
  auto target = choose_target(candidates, context);
  return fail(in_file(std::move(target).error(), stock.where()));
}

}  // namespace wexlo
