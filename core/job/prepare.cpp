#include "job/prepare.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/contains.hpp"
#include "base/digest.hpp"
#include "base/source.hpp"
#include "base/source_read.hpp"
#include "job/extract.hpp"
#include "job/kit_chain.hpp"
#include "job/kit_write.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

/// Larger images are copied from file to file, never held.
constexpr std::uint64_t kMaxLoaded = 256u << 20;

/// A partition read from the firmware.
struct Stock {
  std::string partition;
  LoadedImage image;
};

class Preparation {
 public:
  Preparation(const fs::path& path, const PrepareOptions& options, const Context& context)
      : path_(path), options_(options), context_(context) {}

  Result<Prepared> run(const fs::path& kit) {
    if (options_.dry_run) {
      WEXLO_CHECK(work_out());
      return std::move(out_);
    }
    WEXLO_TRY(OutputFolder folder,
              OutputFolder::create(kit, options_.overwrite, std::string(kKitManifest)));
    WEXLO_CHECK(work_out());
    if (out_.stopped) return std::move(out_);
    const KitSources sources{*firmware_, path_.filename().string(), path_,
                             [this](const std::string& name) -> Result<Blob> {
                               WEXLO_CHECK(load(name));
                               const Stock* one = stock(name);
                               return one == nullptr ? Blob() : one->image.bytes;
                             }};
    if (auto written = write_kit(folder.path(), out_, options_, recipes_, sources, context_);
        !written)
      return fail(folder.with_final_name(std::move(written).error()));
    WEXLO_CHECK(folder.commit());
    return std::move(out_);
  }

 private:
  Status work_out() {
    WEXLO_TRY(firmware_, open_firmware(path_.string(), {.context = context_}));
    if (firmware_->incremental)
      return fail({.code = ErrorCode::Unsupported,
                   .message = "an incremental package holds no whole images",
                   .file = path_.string(),
                   .hint = "Take the full package of the build."});
    out_.build = firmware_->build;
    out_.purpose = options_.stock ? Purpose::Restore
                   : !options_.like_build.empty() && options_.like_build != out_.build.fingerprint
                       ? Purpose::Update
                       : Purpose::Patch;
    WEXLO_CHECK(look_at_inputs());
    WEXLO_CHECK(find_target());
    out_.shape = shape_of(*firmware_, {}, sheet());
    // The wrong phone is told before anything is worked out for it.
    WEXLO_CHECK(judge_fit({}));
    if (out_.stopped) return {};
    WEXLO_CHECK(options_.stock ? take_stock() : patch_all());
    WEXLO_CHECK(add_given());
    WEXLO_CHECK(gather_facts());
    out_.shape = shape_of(*firmware_, out_.chain, sheet());
    WEXLO_CHECK(place_in_super());
    WEXLO_CHECK(judge_fit(fit_images()));
    if (out_.stopped) return {};
    return verify();
  }

  [[nodiscard]] const Sheet* sheet() const { return options_.sheet ? &*options_.sheet : nullptr; }

  Status look_at_inputs() {
    WEXLO_CHECK(look_at_siblings(*firmware_, path_.string(), out_.findings, context_));
    for (const GivenFile& file : options_.given) {
      WEXLO_TRY(Given given, open_given(file, out_.findings, context_));
      if (given.partition.empty() && out_.install)
        return fail({.code = ErrorCode::Usage,
                     .message = "one system package can be installed, not several",
                     .file = file.file});
      if (given.partition.empty())
        out_.install = std::move(given);
      else
        given_.push_back(std::move(given));
    }
    return {};
  }

  /// What is held against the sheet; without one, only what was brought along against the firmware.
  Status judge_fit(std::vector<FitImage> images) {
    const Sheet none;
    FitFacts facts{.purpose = out_.purpose,
                   .device = out_.build.device,
                   .build = out_.build.fingerprint,
                   .incremental = out_.build.incremental,
                   .patch_level = out_.build.patch_level,
                   .region = out_.build.region,
                   .sdk = out_.build.sdk_level,
                   .demands = out_.build.demands,
                   .needs = {},
                   .architecture = phone_.architecture.empty() ? phone_.kernel_architecture
                                                               : phone_.architecture,
                   .slotted = out_.shape.slotted,
                   .rollback = {},
                   .images = std::move(images),
                   .given = {}};
    if (sheet() != nullptr) WEXLO_CHECK(take_rollback(*firmware_, facts, context_));
    for (const Recipe& recipe : options_.recipes)
      if (!recipe.phone_needs.empty()) facts.needs.emplace_back(recipe.name, recipe.phone_needs);
    for (const Given& one : given_)
      facts.given.push_back(fit_given(one));
    if (out_.install) facts.given.push_back(fit_given(*out_.install));
    auto rows = wexlo::fit(facts, sheet() == nullptr ? none : *sheet(), options_.accept);
    if (sheet() == nullptr)
      std::erase_if(rows, [](const FitRow& row) {
        return !row.code.starts_with("given-") && !row.code.starts_with("recipe-needs");
      });
    out_.fit = std::move(rows);
    settle();
    return {};
  }

  /// Problems that a person has said yes to are warnings from there on.
  void settle() {
    for (Finding& one : out_.findings) {
      if (one.level != "problem" || !contains(options_.accept, one.code)) continue;
      one.level = "warning";
      one.message += " (accepted)";
    }
    out_.stopped =
        std::ranges::any_of(out_.fit, stops) || contains(out_.findings, "problem", &Finding::level);
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
        names.push_back(name.substr(0, name.size() - slot_suffix(name).size()));
    // Two slots of one partition are one name here.
    std::vector<std::string> order;
    for (const std::string& name : names)
      if (!contains(order, name) && name != "vbmeta") order.push_back(name);
    if (contains(names, "vbmeta")) order.emplace_back("vbmeta");
    for (const std::string& name : order) {
      WEXLO_CHECK(check_stop(context_));
      WEXLO_CHECK(load(name));
      const Stock* one = stock(name);
      if (one == nullptr) continue;
      Patched same{.bytes = one->image.bytes, .sha256 = sha256_hex(one->image.bytes.view())};
      same.way_back = {.in_image = true, .size = 0, .reason = "it is the stock image"};
      out_.images.push_back(
          {.partition = name, .flashed = true, .patched = std::move(same), .files = {}});
    }
    if (!out_.images.empty()) return {};
    return fail({.code = ErrorCode::NoTarget,
                 .message = "the firmware has no image of the boot chain to put back",
                 .file = path_.string()});
  }

  /// What was given and no recipe acts on is written as it is.
  Status add_given() {
    for (Given& one : given_) {
      const auto patched = std::ranges::find(out_.images, one.partition, &PreparedImage::partition);
      if (patched != out_.images.end()) {
        patched->patched.way_back.in_image = false;
        patched->patched.way_back.reason = "it was made from the image given for it";
        continue;
      }
      GivenPart part{.given = std::move(one), .files = {}, .logical = {}};
      if (part.given.size <= kMaxLoaded && loadable(part.given.kind)) {
        WEXLO_TRY(const Blob bytes, read_all(*part.given.source, kMaxLoaded));
        Patched as_given{.bytes = bytes, .sha256 = sha256_hex(bytes.view()), .changed = true};
        as_given.way_back = {.in_image = false, .size = 0, .reason = "it was given"};
        const bool last = part.given.partition == "vbmeta";
        const auto before = std::ranges::find(out_.images, "vbmeta", &PreparedImage::partition);
        out_.images.insert(last ? out_.images.end() : before, {.partition = part.given.partition,
                                                               .flashed = true,
                                                               .given = true,
                                                               .patched = std::move(as_given),
                                                               .files = {}});
        WEXLO_CHECK(load(part.given.partition));
      } else {
        out_.given.push_back(std::move(part));
      }
    }
    return {};
  }

  static bool loadable(std::string_view kind) {
    return kind == "boot" || kind == "vendor_boot" || kind == "vbmeta" || kind == "dt-table" ||
           kind == "dtb";
  }

  /// Large images that lie in super: is there room, and what has to go for it?
  Status place_in_super() {
    out_.super = super_facts(*firmware_, sheet(), out_.shape.slotted.value_or(true));
    SuperFacts left = out_.super;
    for (GivenPart& part : out_.given) {
      const std::string& name = part.given.partition;
      part.logical = logical_name(left, name, sheet());
      if (part.logical.empty()) continue;
      RoomPlan room = make_room(left, part.logical, align_up(part.given.size, 4096));
      if (!room.fits)
        out_.findings.push_back({"problem", "no-room-" + name, room.why, part.logical});
      else if (room.steps.size() > 1)
        out_.findings.push_back({"warning", "room-made", room.why, part.logical});
      for (const RoomStep& step : room.steps) {
        std::erase_if(left.partitions, [&](const LogicalPartition& one) {
          return step.act == "drop" && one.name == step.partition;
        });
        for (LogicalPartition& one : left.partitions)
          if (step.act == "resize" && one.name == step.partition) one.size = step.after;
      }
      out_.rooms.push_back(std::move(room));
    }
    const bool system = std::ranges::any_of(
        out_.given, [](const GivenPart& one) { return one.given.partition == "system"; });
    if (system && !options_.wipe)
      out_.findings.push_back(
          {"problem", "wipe-needed",
           "Another system cannot read the data of the one before it, and stops or loops at its "
           "first start: add --wipe when the owner agrees that the user's data is erased, or "
           "accept this to try without.",
           "system"});
    return {};
  }

  /// Signs with the owner's key, when there is one; then judges what a phone will make of the kit.
  Status verify() {
    const KitSurroundings around{*firmware_, path_.string(),
                                 [this](const std::string& name) -> Result<const LoadedImage*> {
                                   WEXLO_CHECK(load(name));
                                   const Stock* one = stock(name);
                                   return one == nullptr ? nullptr : &one->image;
                                 }};
    if (options_.signer) WEXLO_CHECK(seal_kit(around, options_.signer, out_, context_));
    WEXLO_TRY(out_.verification,
              judge_kit(around, options_.signer ? options_.signer->public_key() : Bytes{}, out_,
                        context_));
    if (!out_.verification.stop.empty())
      return fail(
          {.code = ErrorCode::WouldRefuse,
           .message = "even an unlocked phone would not start this set",
           .file = path_.string(),
           .found = out_.verification.stop,
           .hint = "Is the firmware whole, and of one build? wexlo check shows the chain."});
    if (options_.signer && !out_.verification.locked)
      out_.findings.push_back({"warning", "not-locked", out_.verification.why, ""});
    return {};
  }

  Status load(const std::string& partition) {
    if (stock(partition) != nullptr) return {};
    if (!has(partition)) return {};
    WEXLO_TRY(const PartitionFacts* const facts, firmware_->choose(partition, path_.string()));
    WEXLO_TRY(const Blob bytes,
              read_cached(options_.cache, *facts, path_.string(), kMaxImage, context_));
    WEXLO_TRY(LoadedImage image, load_image(bytes, path_.string() + "!" + partition));
    stocks_.push_back({partition, std::move(image)});
    return {};
  }

  /// By its name, or as the one slot that holds it. Two that answer to it are an error later on.
  bool has(const std::string& partition) const {
    const auto one = firmware_->choose(partition, path_.string());
    return one || one.error().code != ErrorCode::NotFound;
  }

  const Stock* stock(std::string_view partition) const {
    const auto at = std::ranges::find(stocks_, partition, &Stock::partition);
    return at == stocks_.end() ? nullptr : &*at;
  }

  /// What a recipe acts on: the image that was given, else the firmware's.
  Result<LoadedImage> base(const std::string& partition) {
    const auto at = std::ranges::find(given_, partition, &Given::partition);
    if (at == given_.end()) return stock(partition)->image;
    WEXLO_TRY(const Blob bytes, read_all(*at->source, kMaxImage));
    return load_image(bytes, at->file);
  }

  Status find_target() {
    if (options_.stock) {
      out_.target = {.partition = "", .reason = "nothing is patched: stock images are put back"};
      return {};
    }
    std::vector<Candidate> candidates;
    // init_boot settles it alone when it can, so that boot need not be read.
    for (const std::string partition : {"init_boot", "boot", "recovery"}) {
      WEXLO_CHECK(load(partition));
      candidates.clear();
      for (const Stock& one : stocks_)
        candidates.push_back({one.partition, &one.image});
      if (choose_target(candidates)) break;
    }
    auto target = choose_target(candidates);
    if (!target) return fail(in_file(std::move(target).error(), path_.string()));
    out_.target = std::move(*target);
    return {};
  }

  /// The partitions that an edit without one is for.
  std::vector<std::string> homes_of(const Edit& edit) {
    const auto present = [&](std::initializer_list<const char*> names) {
      std::vector<std::string> out;
      for (const char* name : names)
        if (has(name)) out.emplace_back(name);
      return out;
    };
    const std::string& target = out_.target.partition;
    switch (edit.home) {
      case Home::StartRamdisk:
      case Home::Header: return {target};
      case Home::VendorRamdisk:
      case Home::Bootconfig: return present({"vendor_boot"});
      case Home::RecoveryRamdisk:
        // Its own partition, else where newer phones have it as a fragment, else in boot.
        if (has("recovery")) return {"recovery"};
        return present({"vendor_boot", "boot"});
      case Home::Mounts: {
        auto out = present({"vendor_boot", "dtbo"});
        out.push_back(target);
        if (target == "init_boot" || !has("boot")) return out;
        if (target != "boot") out.emplace_back("boot");
        return out;
      }
      case Home::Cmdline:
        // Newer phones have most of it in vendor_boot; both are joined.
        if (has("vendor_boot")) return {"vendor_boot"};
        return present({"boot"});
      case Home::Kernel: return present({"boot"});
      case Home::Trees: return present({"boot", "vendor_boot", "dtbo"});
      case Home::Vbmeta: return present({"vbmeta"});
    }
    return {};
  }

  Status no_place(const Edit& edit) const {
    if (edit.may_miss || !edit.when.empty()) return {};
    const std::string wanted =
        edit.partition.empty() ? std::string(home_name(edit.home)) : "partition " + edit.partition;
    return fail({.code = ErrorCode::NoMatch,
                 .message = fmt::format("recipe {}: \"{}\" acts on {}, which this firmware does "
                                        "not have",
                                        edit.recipe, edit.summary(), wanted),
                 .file = path_.string(),
                 .hint = "wexlo inspect lists the partitions."});
  }

  /// The partitions that the recipes may act on, in the order they shall be written: vbmeta last,
  /// so that a phone that loses power half way still has a chain it accepts.
  Result<std::vector<std::string>> wanted() {
    std::set<std::string> names;
    for (const Recipe& recipe : recipes_) {
      for (const Edit& edit : recipe.edits) {
        const auto places = edit.partition.empty() ? homes_of(edit)
                            : has(edit.partition)  ? std::vector{edit.partition}
                                                   : std::vector<std::string>{};
        if (places.empty()) WEXLO_CHECK(no_place(edit));
        for (const std::string& place : places) {
          names.insert(place);
          if (edit.partition.empty()) homes_[place].insert(edit.home);
        }
      }
    }
    names.erase(out_.target.partition);
    names.erase("vbmeta");
    std::vector<std::string> order{out_.target.partition};
    order.insert(order.end(), names.begin(), names.end());
    if (has("vbmeta")) order.emplace_back("vbmeta");
    return order;
  }

  /// What the phone is: told by the user, the target's programs, the kernel, the build.
  Result<PhoneFacts> find_phone() {
    PhoneFacts phone;
    WEXLO_TRY(phone, phone_facts(stock(out_.target.partition)->image, context_));
    if (!options_.patch.architecture.empty()) phone.architecture = options_.patch.architecture;
    const std::string& sdk = out_.build.sdk_level;
    if (!sdk.empty()) phone.sdk = static_cast<std::uint32_t>(std::atoi(sdk.c_str()));
    if (!phone.architecture.empty() || !phone.kernel_architecture.empty() || !has("boot"))
      return phone;
    WEXLO_CHECK(load("boot"));
    WEXLO_TRY(const PhoneFacts boot, phone_facts(stock("boot")->image, context_));
    phone.kernel_architecture = boot.kernel_architecture;
    return phone;
  }

  Status patch_all() {
    recipes_ = options_.recipes;
    WEXLO_TRY(const auto names, wanted());
    WEXLO_TRY(phone_, find_phone());
    std::vector<std::vector<EditReport>> reports;
    for (const std::string& name : names) {
      WEXLO_CHECK(check_stop(context_));
      WEXLO_CHECK(load(name));
      const PatchRole role{name, name == out_.target.partition, homes_[name], phone_, {}};
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
      WEXLO_CHECK(judge(image));
    if (std::ranges::none_of(out_.images, &PreparedImage::flashed))
      return fail({.code = ErrorCode::NoMatch,
                   .message = "the recipes change nothing in this firmware",
                   .file = path_.string(),
                   .hint = "The firmware has what they ask for already: there is nothing to "
                           "flash."});
    return {};
  }

  /// What the next build will be held against, and what the one before is held against now.
  Status gather_facts() {
    for (const char* name : {"boot", "init_boot", "vendor_boot", "recovery"}) {
      if (!has(name)) continue;
      WEXLO_CHECK(check_stop(context_));
      WEXLO_CHECK(load(name));
      if (stock(name) == nullptr || !stock(name)->image.image) continue;
      WEXLO_TRY(ImageFacts facts, image_facts(stock(name)->image, name, context_));
      out_.chain.push_back(std::move(facts));
    }
    if (!options_.before.empty()) out_.differences = differences(options_.before, out_.chain);
    return {};
  }

  /// About the two signatures that an owner's key makes again; an older boot signature, or one in a
  /// section of its own, stays stale and has to be told.
  static bool is_signed_again(const std::string& note) {
    return note.starts_with("The image's own verified-boot signature") ||
           note.starts_with("The signature of vbmeta");
  }

  Status judge(const PreparedImage& image) {
    for (const Lowered& one : image.patched.lowered) {
      // Lowered in several images, it is still one protection.
      const bool told = std::ranges::any_of(out_.findings, [&](const Finding& finding) {
        return finding.code == one.code && finding.message == one.about;
      });
      if (!told) out_.findings.push_back({"warning", one.code, one.about, image.partition});
    }
    for (const Conflict& one : image.patched.conflicts)
      out_.findings.push_back(
          {"warning", "edit-conflict",
           fmt::format("{} was changed by \"{}\" and again by \"{}\": the later has its way.",
                       one.where, one.earlier, one.later),
           image.partition});
    if (image.flashed && !image.patched.way_back.in_image)
      out_.findings.push_back(
          {"note", "way-back-in-kit",
           fmt::format("The way back is the kit's stock copy: {}.", image.patched.way_back.reason),
           image.partition});
    for (const std::string& note : image.patched.notes)
      if (!options_.signer || !is_signed_again(note))
        out_.findings.push_back({"note", "verified-boot", note, image.partition});
    const Stock* twin = stock(image.partition);
    const std::uint64_t room =
        twin == nullptr ? image.patched.bytes.size() : twin->image.bytes.size();
    if (image.flashed && image.patched.bytes.size() > room)
      out_.findings.push_back(
          {"warning", "partition-size-unknown",
           fmt::format("The image is {} bytes larger than the stock one, and the package does not "
                       "say how large the partition is: the plan asks the phone before writing.",
                       image.patched.bytes.size() - room),
           image.partition});
    if (image.partition == "vbmeta" && !image.flashed && !options_.signer)
      out_.findings.push_back({"note", "vbmeta-unchanged",
                               "vbmeta is left as it is: an unlocked phone starts the patched "
                               "image and warns, a locked "
                               "one refuses it.",
                               "vbmeta"});
    return {};
  }

  fs::path path_;
  const PrepareOptions& options_;
  const Context& context_;
  FirmwarePtr firmware_;
  std::vector<Stock> stocks_;
  std::vector<Recipe> recipes_;                  ///< bound to the phone's processor
  std::map<std::string, std::set<Home>> homes_;  ///< by partition
  std::vector<Given> given_;
  PhoneFacts phone_;
  Prepared out_;
};

}  // namespace

Result<Prepared> prepare(const fs::path& firmware, const PrepareOptions& options,
                         const fs::path& kit, const Context& context) {
  return Preparation(firmware, options, context).run(kit);
}

}  // namespace wexlo
