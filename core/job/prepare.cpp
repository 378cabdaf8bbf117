#include "job/prepare.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/contains.hpp"
#include "base/digest.hpp"
#include "base/source_read.hpp"
#include "firmware/extract.hpp"
#include "job/kit_chain.hpp"
#include "job/kit_fit.hpp"
#include "job/kit_notes.hpp"
#include "job/kit_write.hpp"
#include "kit/facts/edit_places.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

/// Larger images are copied from file to file, never held.
constexpr std::uint64_t kMaxLoaded = 256u << 20;

bool loadable(const Given& given) {
  static constexpr std::string_view kKinds[] = {"boot", "vendor_boot", "vbmeta", "dt-table", "dtb"};
  return given.size <= kMaxLoaded && std::ranges::find(kKinds, given.kind) != std::end(kKinds);
}

class Preparation {
 public:
  Preparation(const fs::path& path, const PrepareOptions& options, const Context& context)
      : path_(path), options_(options), context_(context) {}

  Result<Prepared> run(const fs::path& kit) {
    if (options_.dry_run) {
      WEXLO_CHECK(work_out());
      return std::move(out_);
    }
    WEXLO_CHECK(check_not_input(kit, options_.inputs));
    WEXLO_TRY(OutputFolder folder,
              OutputFolder::create(kit, options_.overwrite, std::string(kKitManifest)));
    WEXLO_CHECK(work_out());
    if (out_.stopped) return std::move(out_);
    const KitSources sources{*stock_, path_, context_};
    if (auto written = write_kit(folder.path(), out_, options_, recipes_, sources); !written)
      return fail(folder.with_final_name(std::move(written).error()));
    WEXLO_CHECK(folder.commit());
    return std::move(out_);
  }

 private:
  /// Stops as soon as a problem is found that nobody accepted: what comes after would be worked out
  /// for nothing.
  Status work_out() {
    for (const auto step :
         {&Preparation::open, &Preparation::look_at_inputs, &Preparation::find_target,
          &Preparation::change, &Preparation::place, &Preparation::verify}) {
      WEXLO_CHECK((this->*step)());
      settle(options_, out_);
      if (out_.stopped) break;
    }
    tell_unused(options_, out_);
    return {};
  }

  Status open() {
    WEXLO_TRY(firmware_, open_firmware(path_.string(), {.context = context_}));
    if (firmware_->incremental)
      return fail({.code = ErrorCode::Unsupported,
                   .message = "an incremental package holds no whole images",
                   .file = path_.string(),
                   .hint = "Take the full package of the build."});
    stock_.emplace(*firmware_, path_.string(), options_.cache);
    out_.build = firmware_->build;
    out_.purpose = options_.stock ? Purpose::Restore
                   : !options_.like_build.empty() && !out_.build.fingerprint.empty() &&
                           options_.like_build != out_.build.fingerprint
                       ? Purpose::Update
                       : Purpose::Patch;
    compare_with_older_phone(bench(), out_);
    return {};
  }

  [[nodiscard]] Workbench bench() { return {options_, *stock_, given_, phone_, context_}; }

  Status look_at_inputs() {
    WEXLO_CHECK(look_at_siblings(*firmware_, path_.string(), out_.findings, context_));
    for (const GivenFile& file : options_.given) {
      WEXLO_TRY(Given given, open_given(file, out_.findings, context_));
      if (!given.partition.empty()) {
        given_.push_back(std::move(given));
        continue;
      }
      if (out_.install)
        return fail({.code = ErrorCode::Usage,
                     .message = "one system package can be installed, not several",
                     .file = file.file});
      out_.install = std::move(given);
    }
    return {};
  }

  /// The wrong phone is told before anything is worked out for it.
  Status find_target() {
    if (options_.stock)
      out_.target = {.partition = "", .reason = "nothing is patched: stock images are put back"};
    else
      WEXLO_CHECK(choose());
    out_.shape = shape_of(*firmware_, {}, bench().sheet());
    choose_slots(bench(), out_);
    return judge_fit(bench(), {}, out_);
  }

  Status choose() {
    std::vector<Candidate> candidates;
    // init_boot settles it alone when it can, so that the others need not be read.
    for (const std::string_view name : ramdisk_partitions(RamdiskOrder::Target)) {
      const std::string partition(name);
      WEXLO_TRY(const LoadedImage* const image, stock_->get(partition, context_));
      if (image == nullptr) continue;
      candidates.push_back({partition, image});
      auto target = choose_target(candidates);
      if (target) {
        out_.target = std::move(*target);
        return {};
      }
      // What does not read is not passed over for the next one.
      if (target.error().code != ErrorCode::NoTarget)
        return fail(in_file(std::move(target).error(), path_.string()));
    }
    auto target = choose_target(candidates);
    return fail(in_file(std::move(target).error(), path_.string()));
  }

  Status change() {
    WEXLO_CHECK(options_.stock ? take_stock() : patch_all());
    WEXLO_CHECK(judge_origins(bench(), out_));
    WEXLO_CHECK(judge_vouched(bench(), out_));
    compare_with_older_kit(bench(), out_);
    return {};
  }

  Status place() {
    WEXLO_CHECK(add_given());
    WEXLO_CHECK(gather_facts());
    out_.shape = shape_of(*firmware_, out_.chain, bench().sheet());
    choose_slots(bench(), out_);
    WEXLO_CHECK(place_in_super(bench(), out_));
    judge_given(bench(), out_);
    return judge_fit(bench(), fit_images(), out_);
  }

  [[nodiscard]] std::vector<FitImage> fit_images() const {
    std::vector<FitImage> out;
    for (const PreparedImage& one : out_.images)
      if (one.flashed) out.push_back({one.partition, one.patched.bytes.size(), false});
    for (const GivenPart& one : out_.given)
      out.push_back({one.given.partition, one.given.size, !one.logical.empty()});
    return out;
  }

  /// Stock images as they are: a kit that only puts them back.
  Status take_stock() {
    std::vector<std::string> names = options_.stock_of;
    if (names.empty())
      for (const std::string& name : boot_chain(*firmware_))
        names.emplace_back(without_slot(name));
    // Two slots of one partition are one name here.
    std::vector<std::string> order;
    for (const std::string& name : names)
      if (!contains(order, name) && name != "vbmeta") order.push_back(name);
    if (contains(names, "vbmeta")) order.emplace_back("vbmeta");
    for (const std::string& name : order) {
      WEXLO_TRY(const LoadedImage* const one, stock_->get(name, context_));
      if (one == nullptr) continue;
      Patched same{.bytes = one->bytes, .sha256 = sha256_hex(one->bytes.view())};
      same.way_back = {.in_image = true, .size = 0, .reason = "it is the stock image"};
      out_.images.push_back(
          {.partition = name, .flashed = true, .patched = std::move(same), .files = {}});
    }
    if (!out_.images.empty()) return {};
    return fail({.code = ErrorCode::NoTarget,
                 .message = "the firmware has no image of the boot chain to put back",
                 .file = path_.string()});
  }

  /// What a recipe acts on: the image that was given, else the firmware's.
  Result<LoadedImage> base(const std::string& partition) {
    const auto at = std::ranges::find(given_, partition, &Given::partition);
    if (at == given_.end()) {
      WEXLO_TRY(const LoadedImage* const own, stock_->get(partition, context_));
      return *own;
    }
    WEXLO_TRY(const Blob bytes, read_all(*at->source, kMaxImage));
    return load_image(bytes, at->file);
  }

  /// What the phone is: told by the user, the target's programs, the kernel, the build.
  Status find_phone() {
    WEXLO_TRY(const LoadedImage* const target, stock_->get(out_.target.partition, context_));
    WEXLO_TRY(phone_, phone_facts(*target, context_));
    if (!options_.patch.architecture.empty()) phone_.architecture = options_.patch.architecture;
    const std::string& sdk = out_.build.sdk_level;
    if (!sdk.empty()) phone_.sdk = static_cast<std::uint32_t>(std::atoi(sdk.c_str()));
    if (!phone_.architecture.empty() || !phone_.kernel_architecture.empty()) return {};
    WEXLO_TRY(const LoadedImage* const boot, stock_->get("boot", context_));
    if (boot == nullptr) return {};
    WEXLO_TRY(const PhoneFacts facts, phone_facts(*boot, context_));
    phone_.kernel_architecture = facts.kernel_architecture;
    return {};
  }

  Status patch_all() {
    recipes_ = options_.recipes;
    WEXLO_TRY(EditPlaces places, places_of(recipes_, out_.target.partition, *stock_));
    WEXLO_CHECK(find_phone());
    std::vector<std::vector<EditReport>> reports;
    for (const std::string& name : places.partitions) {
      WEXLO_CHECK(check_stop(context_));
      const PatchRole role{name, name == out_.target.partition, places.homes[name], phone_, {}};
      const std::string where = path_.string() + "!" + name;
      WEXLO_TRY(const LoadedImage image, base(name));
      auto patched = patch_loaded(image, role, recipes_, options_.patch, {}, context_);
      if (!patched) return fail(in_file(std::move(patched).error(), where));
      reports.push_back(patched->edits);
      out_.images.push_back({.partition = name,
                             .flashed = patched->changed,
                             .patched = std::move(*patched),
                             .files = {}});
    }
    if (auto matched = check_matches(reports); !matched)
      return fail(in_file(std::move(matched).error(), path_.string()));
    for (const PreparedImage& image : out_.images)
      tell_of_patch(image, stock_->read(), options_.signer != nullptr, out_.findings);
    if (std::ranges::none_of(out_.images, &PreparedImage::flashed))
      return fail({.code = ErrorCode::NoMatch,
                   .message = "the recipes change nothing in this firmware",
                   .file = path_.string(),
                   .hint = "The firmware has what they ask for already: there is nothing to "
                           "flash."});
    return {};
  }

  /// What was given and no recipe acts on is written as it is.
  Status add_given() {
    for (const Given& one : given_) {
      const auto changed = std::ranges::find(out_.images, one.partition, &PreparedImage::partition);
      if (changed != out_.images.end() && changed->flashed && !options_.stock) {
        changed->patched.way_back = {false, 0, "it was made from the image given for it"};
        continue;
      }
      if (changed != out_.images.end()) out_.images.erase(changed);
      if (!loadable(one)) {
        out_.given.push_back({.given = one, .files = {}, .logical = {}});
        continue;
      }
      WEXLO_TRY(const Blob bytes, read_all(*one.source, kMaxLoaded));
      Patched as_given{.bytes = bytes, .sha256 = sha256_hex(bytes.view()), .changed = true};
      as_given.way_back = {.in_image = false, .size = 0, .reason = "it was given"};
      // vbmeta is written last, whoever it is from.
      const auto before = one.partition == "vbmeta"
                              ? out_.images.end()
                              : std::ranges::find(out_.images, "vbmeta", &PreparedImage::partition);
      out_.images.insert(before, {.partition = one.partition,
                                  .flashed = true,
                                  .given = true,
                                  .patched = std::move(as_given),
                                  .files = {}});
      WEXLO_CHECK(stock_->get(one.partition, context_));
    }
    return {};
  }

  /// What the next build will be held against, and what the one before is held against now.
  Status gather_facts() {
    for (const std::string_view partition : ramdisk_partitions(RamdiskOrder::Told)) {
      const std::string name(partition);
      WEXLO_TRY(const LoadedImage* const image, stock_->get(name, context_));
      if (image == nullptr || !image->image) continue;
      WEXLO_TRY(ImageFacts facts, image_facts(*image, name, context_));
      out_.chain.push_back(std::move(facts));
    }
    if (!options_.before.empty()) out_.differences = differences(options_.before, out_.chain);
    return {};
  }

  /// Signs with the owner's key, when there is one; then judges what a phone will make of the kit.
  Status verify() {
    if (options_.signer)
      WEXLO_CHECK(seal_kit(*stock_, options_.signer, options_.sheet, out_, context_));
    WEXLO_TRY(out_.verification,
              judge_kit(*stock_, options_.signer ? options_.signer->public_key() : Bytes{}, out_,
                        context_));
    if (!out_.verification.stop.empty())
      return fail(
          {.code = ErrorCode::WouldRefuse,
           .message = "even an unlocked phone would not start this set",
           .file = path_.string(),
           .found = out_.verification.stop,
           .hint = "Is the firmware whole, and of one build? wexlo check shows the chain."});
    if (options_.signer && out_.verification.locked != verified::Outlook::Starts)
      out_.findings.push_back({"warning", "not-locked", out_.verification.why, ""});
    return judge_mounts(bench(), out_);
  }

  fs::path path_;
  const PrepareOptions& options_;
  const Context& context_;
  FirmwarePtr firmware_;
  std::optional<StockImages> stock_;
  std::vector<Recipe> recipes_;  ///< bound to the phone's processor
  std::vector<Given> given_;
  PhoneFacts phone_;
  Prepared out_;
};

}  // namespace

Result<Prepared> prepare(const fs::path& firmware, const PrepareOptions& options,
                         const fs::path& kit, const Context& context) {
  return Preparation(firmware, options, context).run(kit);
}

std::vector<std::string> stopping(const Prepared& prepared) {
  std::vector<std::string> out;
  for (const FitRow& row : prepared.fit)
    if (stops(row)) out.push_back(row.code);
  for (const Finding& one : prepared.findings)
    if (one.level == "problem") out.push_back(one.code);
  return out;
}

}  // namespace wexlo
