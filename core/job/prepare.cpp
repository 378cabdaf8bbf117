#include "job/prepare.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/digest.hpp"
#include "base/source.hpp"
#include "job/kit_chain.hpp"
#include "job/manifest.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

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
    if (auto written = write_kit(folder.path()); !written)
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
    WEXLO_CHECK(find_target());
    WEXLO_CHECK(patch_all());
    WEXLO_CHECK(verify());
    return gather_facts();
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
    WEXLO_TRY(const Blob bytes, read_partition(*facts, kMaxImage, context_));
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

  Status find_target() {
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
    WEXLO_TRY(const PhoneFacts phone, find_phone());
    std::vector<std::vector<EditReport>> reports;
    for (const std::string& name : names) {
      WEXLO_CHECK(check_stop(context_));
      WEXLO_CHECK(load(name));
      const PatchRole role{name, name == out_.target.partition, homes_[name], phone, {}};
      const std::string where = path_.string() + "!" + name;
      auto patched = patch_loaded(stock(name)->image, role, recipes_, options_.patch, {}, context_);
      if (!patched) return fail(in_file(std::move(patched).error(), where));
      reports.push_back(patched->edits);
      out_.images.push_back(
          {.partition = name, .flashed = patched->changed, .patched = std::move(*patched)});
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
    const std::uint64_t room = stock(image.partition)->image.bytes.size();
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

  Status write_kit(const fs::path& folder) {
    for (const char* name : {"flash", "stock"}) {
      std::error_code error;
      fs::create_directory(folder / name, error);
      if (error) return fail(io_error(error.value(), "cannot make the folder", name));
    }
    PlanFacts facts{.device = out_.build.device,
                    .build = out_.build.fingerprint,
                    .slots = options_.slots,
                    .wipe = options_.wipe,
                    .verification = out_.verification.needs,
                    .verification_why = out_.verification.why,
                    .key_sha256 = out_.verification.key_sha256};
    if (out_.verification.needs == "own-key") {
      std::error_code error;
      fs::create_directory(folder / "key", error);
      if (error) return fail(io_error(error.value(), "cannot make the folder", "key"));
      WEXLO_CHECK(write_new(folder / kKitKey, options_.signer->public_key()));
      facts.key_file = kKitKey;
    }
    for (PreparedImage& image : out_.images) {
      if (!image.flashed) continue;
      const View stock_bytes = stock(image.partition)->image.bytes.view();
      image.files = {.partition = image.partition,
                     .flash_file = "flash/" + image.partition + ".img",
                     .stock_file = "stock/" + image.partition + ".img",
                     .size = image.patched.bytes.size(),
                     .stock_size = stock_bytes.size(),
                     .flash_sha256 = image.patched.sha256,
                     .stock_sha256 = sha256_hex(stock_bytes)};
      WEXLO_CHECK(write_checked(folder / image.files.flash_file, image.patched.bytes,
                                image.files.flash_sha256));
      WEXLO_CHECK(
          write_checked(folder / image.files.stock_file, stock_bytes, image.files.stock_sha256));
      facts.images.push_back(image.files);
    }
    WEXLO_TRY(out_.recipes, write_recipes(folder, recipes_));
    out_.plan = make_plan(facts);
    const std::string plan = format_plan(out_.plan);
    WEXLO_CHECK(write_new(folder / "plan.toml", as_view(plan)));
    const std::string manifest =
        kit_manifest(out_, options_, path_.filename().string(), sha256_hex(as_view(plan)));
    return write_new(folder / kKitManifest, as_view(manifest));
  }

  /// Writes, then reads the file back from the disk: what is flashed is what was checked.
  Status write_checked(const fs::path& file, View bytes, const std::string& sha256) {
    WEXLO_CHECK(check_stop(context_));
    WEXLO_CHECK(write_new(file, bytes));
    WEXLO_TRY(const SourcePtr source, open_file(file));
    WEXLO_TRY(const Blob again, read_all(*source, bytes.size()));
    if (sha256_hex(again.view()) == sha256) return {};
    return fail({.code = ErrorCode::Io,
                 .message = "what was written does not read back the same",
                 .file = file.string(),
                 .expected = sha256,
                 .found = sha256_hex(again.view()),
                 .hint = "The disk may be failing: write to another one."});
  }

  fs::path path_;
  const PrepareOptions& options_;
  const Context& context_;
  FirmwarePtr firmware_;
  std::vector<Stock> stocks_;
  std::vector<Recipe> recipes_;                  ///< bound to the phone's processor
  std::map<std::string, std::set<Home>> homes_;  ///< by partition
  Prepared out_;
};

}  // namespace

Result<Prepared> prepare(const fs::path& firmware, const PrepareOptions& options,
                         const fs::path& kit, const Context& context) {
  return Preparation(firmware, options, context).run(kit);
}

}  // namespace wexlo
