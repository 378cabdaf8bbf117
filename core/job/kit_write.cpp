#include "job/kit_write.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "archive/bundle.hpp"
#include "base/contains.hpp"
#include "firmware/sparse_write.hpp"
#include "job/kit_package.hpp"
#include "job/kit_plan.hpp"
#include "job/kit_report.hpp"
#include "job/manifest.hpp"
#include "kit/folder/kit_folder.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

/// One download has 32 bits for its size.
constexpr std::uint64_t kMostAtOnce = 0xFFFFFFFF;

class KitWriter {
 public:
  KitWriter(const fs::path& folder, Prepared& out, const PrepareOptions& options,
            const std::vector<Recipe>& recipes, const KitSources& sources)
      : folder_(folder, sources.context),
        out_(out),
        options_(options),
        recipes_(recipes),
        sources_(sources) {}

  Status run() {
    for (const char* name : {"flash", "stock"})
      WEXLO_CHECK(folder_.make(name));
    for (PreparedImage& image : out_.images)
      if (image.flashed) WEXLO_CHECK(write_image(image));
    for (GivenPart& part : out_.given)
      WEXLO_CHECK(write_given(part));
    WEXLO_CHECK(write_contents());
    WEXLO_CHECK(write_install());
    if (out_.shape.way == Way::Download)
      WEXLO_CHECK(write_packages(folder_, out_, options_, sources_, facts_));
    if (out_.verification.needs == "own-key") {
      WEXLO_CHECK(folder_.make("key"));
      WEXLO_CHECK(folder_.put(std::string(kKitKey), options_.signer->public_key()));
      facts_.key_file = kKitKey;
    }
    if (!recipes_.empty()) {
      WEXLO_TRY(out_.recipes, write_recipes(folder_, recipes_));
    }
    out_.plan = plan_of(out_, options_, sources_, std::move(facts_));
    const std::string plan = format_plan(out_.plan);
    WEXLO_TRY(const PlanFile plan_file, folder_.put("plan.toml", as_view(plan)));
    WEXLO_CHECK(add("plan.txt", plan_for_people(out_.plan)));
    WEXLO_CHECK(write_report(folder_, out_, options_, sources_));
    const std::string manifest = kit_manifest(out_, options_, sources_.name(), plan_file.sha256);
    WEXLO_CHECK(folder_.put(std::string(kKitManifest), as_view(manifest)));
    return folder_.list();
  }

 private:
  /// A file that kit.json lists besides the images.
  Status add(const std::string& name, std::string_view text) {
    WEXLO_TRY(PlanFile file, folder_.put(name, as_view(text)));
    out_.files.push_back(std::move(file));
    return {};
  }

  /// What needs to be there before a package is installed: recovery's image, wherever it lives.
  [[nodiscard]] bool is_for_install(const std::string& partition) const {
    if (!out_.install) return false;
    if (partition == "recovery") return true;
    const bool carrier = partition == "vendor_boot" || partition == "boot";
    return carrier && !sources_.stock.has("recovery");
  }

  Status write_image(PreparedImage& image) {
    WEXLO_TRY(const LoadedImage* const stock,
              sources_.stock.get(image.partition, sources_.context));
    WEXLO_TRY(const PlanFile flash,
              folder_.put("flash/" + image.partition + ".img", image.patched.bytes.view()));
    image.files = {.partition = image.partition,
                   .flash_file = flash.file,
                   .size = flash.size,
                   .flash_sha256 = flash.sha256,
                   .what = image.given      ? "given"
                           : options_.stock ? "stock"
                                            : "patched",
                   .before_install = image.given && is_for_install(image.partition)};
    if (stock != nullptr) {
      WEXLO_TRY(const PlanFile twin,
                folder_.put("stock/" + image.partition + ".img", stock->bytes.view()));
      image.files.stock_file = twin.file;
      image.files.stock_size = twin.size;
      image.files.stock_sha256 = twin.sha256;
    }
    facts_.images.push_back(image.files);
    return {};
  }

  /// Most bytes of one download, as far as it is known.
  [[nodiscard]] std::uint64_t limit() const {
    const auto told = options_.sheet ? options_.sheet->number("state.download_limit")
                                     : std::optional<std::uint64_t>();
    return std::min(told.value_or(kMostAtOnce), kMostAtOnce);
  }

  /// An image from a source, whole or, above the phone's download limit, in sparse pieces.
  Status write_large(const SourcePtr& source, const std::string& stem, PlanFile& whole,
                     std::vector<PlanFile>& pieces) {
    whole.size = source->size();
    // Other programs take packages whole: what a download may have is the bootloader's matter.
    if (source->size() <= limit() || out_.shape.way == Way::Download) {
      WEXLO_TRY(whole, folder_.copy(stem + ".img", *source));
      return {};
    }
    WEXLO_TRY(const auto cuts, cut_sparse({*source}, limit(), sources_.context));
    for (const SparseCut& cut : cuts) {
      // What is mostly empty may go in one piece after all.
      const std::string name = cuts.size() == 1
                                   ? stem + ".img"
                                   : fmt::format("{}.piece-{}.img", stem, pieces.size() + 1);
      WEXLO_TRY(PlanFile piece, folder_.stream(name, [&](const std::function<Status(View)>& out) {
        return write_sparse({*source}, cut, sources_.context, out);
      }));
      if (cuts.size() == 1)
        whole = std::move(piece);
      else
        pieces.push_back(std::move(piece));
    }
    return {};
  }

  /// The firmware's own image of a partition, by its name in super or on the phone.
  [[nodiscard]] const PartitionFacts* stock_of(const std::string& name) const {
    for (const std::string& one : {name, std::string(without_slot(name))})
      if (const auto found = sources_.firmware().choose(one, sources_.name()); found)
        if ((*found)->size > 0) return *found;
    return nullptr;
  }

  Status write_given(GivenPart& part) {
    const std::string& name = part.given.partition;
    PlanFile whole;
    part.files = {.partition = name, .what = "given", .logical = !part.logical.empty()};
    WEXLO_CHECK(write_large(part.given.source, "flash/" + name, whole, part.files.pieces));
    part.files.flash_file = whole.file;
    part.files.size = whole.size;
    part.files.flash_sha256 = whole.sha256;
    part.files.before_install = is_for_install(name);
    if (const PartitionFacts* stock = stock_of(part.logical.empty() ? name : part.logical)) {
      WEXLO_TRY(const SourcePtr source, stock->content->source(sources_.context));
      PlanFile twin;
      WEXLO_CHECK(write_large(source, "stock/" + name, twin, part.files.stock_pieces));
      part.files.stock_file = twin.file;
      part.files.stock_size = twin.size;
      part.files.stock_sha256 = twin.sha256;
    }
    facts_.images.insert(facts_.images.begin(), part.files);
    return {};
  }

  /// What dropped partitions held, where the firmware has it.
  Status write_contents() {
    for (const RoomPlan& room : out_.rooms)
      for (const RoomStep& step : room.steps) {
        facts_.room.push_back(step);
        const PartitionFacts* stock =
            step.act == "drop" && !step.leftover ? stock_of(step.partition) : nullptr;
        if (stock == nullptr || facts_.contents.contains(step.partition)) continue;
        WEXLO_TRY(const SourcePtr source, stock->content->source(sources_.context));
        // More than it had would not go back in.
        if (source->size() > step.before) continue;
        PlanFile whole;
        std::vector<PlanFile> files;
        WEXLO_CHECK(write_large(source, "stock/" + step.partition, whole, files));
        if (files.empty()) files.push_back(std::move(whole));
        out_.files.insert(out_.files.end(), files.begin(), files.end());
        facts_.contents.emplace(step.partition, std::move(files));
      }
    return {};
  }

  Status write_install() {
    if (!out_.install) return {};
    WEXLO_CHECK(folder_.make("install"));
    const Given& given = *out_.install;
    WEXLO_TRY(PlanFile file,
              folder_.copy(fmt::format("install/{}", base_name(given.file)), *given.source));
    const bool wipes = contains(given.build.demands, "ota-wipe=yes");
    facts_.install = PlanInstall{file, given.payload, wipes};
    out_.files.push_back(std::move(file));
    return {};
  }

  KitFolder folder_;
  Prepared& out_;
  const PrepareOptions& options_;
  const std::vector<Recipe>& recipes_;
  const KitSources& sources_;
  PlanFacts facts_;
};

}  // namespace

Status write_kit(const fs::path& folder, Prepared& prepared, const PrepareOptions& options,
                 const std::vector<Recipe>& recipes, const KitSources& sources) {
  return KitWriter(folder, prepared, options, recipes, sources).run();
}

}  // namespace wexlo
