#include "job/prepare.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/digest.hpp"
#include "base/source.hpp"
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
    WEXLO_TRY(OutputFolder folder,
              OutputFolder::create(kit, options_.overwrite, std::string(kKitManifest)));
    WEXLO_TRY(firmware_, open_firmware(path_.string(), {.context = context_}));
    if (firmware_->incremental)
      return fail({.code = ErrorCode::Unsupported,
                   .message = "an incremental package holds no whole images",
                   .file = path_.string(),
                   .hint = "Take the full package of the build."});
    out_.build = firmware_->build;
    WEXLO_CHECK(find_target());
    WEXLO_CHECK(patch_all());
    if (auto written = write_kit(folder.path()); !written)
      return fail(folder.with_final_name(std::move(written).error()));
    WEXLO_CHECK(folder.commit());
    return std::move(out_);
  }

 private:
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
    for (const std::string partition : {"init_boot", "boot"}) {
      WEXLO_CHECK(load(partition));
      candidates.clear();
      for (const Stock& one : stocks_)
        candidates.push_back({one.partition, &one.image});
      if (partition == "init_boot" && !choose_target(candidates)) continue;
    }
    auto target = choose_target(candidates);
    if (!target) return fail(in_file(std::move(target).error(), path_.string()));
    out_.target = std::move(*target);
    return {};
  }

  /// The partitions that the recipes may act on, in the order they shall be written: vbmeta last,
  /// so that a phone that loses power half way still has a chain it accepts.
  Result<std::vector<std::string>> wanted() {
    std::set<std::string> names;
    bool vbmeta = false;
    for (const Recipe& recipe : options_.recipes) {
      for (const Edit& edit : recipe.edits) {
        if (edit.partition.empty()) {
          vbmeta |= edit.on_vbmeta();
          const bool fstab = std::holds_alternative<FstabDropEdit>(edit.what);
          if (fstab && has("vendor_boot")) names.insert("vendor_boot");
          continue;
        }
        if (!has(edit.partition))
          return fail({.code = ErrorCode::NoMatch,
                       .message = fmt::format("recipe {} edits partition {}, which this firmware "
                                              "does not have",
                                              edit.recipe, edit.partition),
                       .file = path_.string(),
                       .hint = "wexlo inspect lists the partitions."});
        names.insert(edit.partition);
      }
    }
    if (vbmeta && !has("vbmeta"))
      return fail({.code = ErrorCode::NoMatch,
                   .message = "a recipe sets vbmeta flags, and this firmware has no vbmeta",
                   .file = path_.string(),
                   .hint = "Leave that recipe out: this phone keeps no such flags there."});
    names.erase(out_.target.partition);
    names.erase("vbmeta");
    std::vector<std::string> order{out_.target.partition};
    order.insert(order.end(), names.begin(), names.end());
    if (has("vbmeta")) order.emplace_back("vbmeta");
    return order;
  }

  Status patch_all() {
    WEXLO_TRY(const auto names, wanted());
    std::vector<std::vector<EditReport>> reports;
    for (const std::string& name : names) {
      WEXLO_CHECK(check_stop(context_));
      WEXLO_CHECK(load(name));
      const PatchRole role{name, name == out_.target.partition};
      auto patched = patch_image(stock(name)->image, role, options_.recipes, context_);
      if (!patched) return fail(in_file(std::move(patched).error(), path_.string() + "!" + name));
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

  Status judge(const PreparedImage& image) {
    for (const std::string& note : image.patched.notes)
      out_.findings.push_back({"note", "verified-boot", note, image.partition});
    const std::uint64_t room = stock(image.partition)->image.bytes.size();
    if (image.flashed && image.patched.bytes.size() > room)
      out_.findings.push_back(
          {"warning", "partition-size-unknown",
           fmt::format("The image is {} bytes larger than the stock one, and the package does not "
                       "say how large the partition is: the plan asks the phone before writing.",
                       image.patched.bytes.size() - room),
           image.partition});
    if (image.partition == "vbmeta" && !image.flashed)
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
                    .wipe = options_.wipe};
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
    out_.plan = make_plan(facts);
    const std::string plan = format_plan(out_.plan);
    WEXLO_CHECK(write_new(folder / "plan.toml", as_view(plan)));
    const std::string manifest =
        kit_manifest(out_, path_.filename().string(), sha256_hex(as_view(plan)));
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
  Prepared out_;
};

}  // namespace

Result<Prepared> prepare(const fs::path& firmware, const PrepareOptions& options,
                         const fs::path& kit, const Context& context) {
  return Preparation(firmware, options, context).run(kit);
}

}  // namespace wexlo
