#include "job/kit_write.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "archive/bundle.hpp"
#include "archive/tar_write.hpp"
#include "base/contains.hpp"
#include "base/digest.hpp"
#include "base/source_read.hpp"
#include "base/text.hpp"
#include "codec/codec.hpp"
#include "firmware/sparse_write.hpp"
#include "job/kit_report.hpp"
#include "job/manifest.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

std::string bare(const std::string& name) {
  return name.substr(0, name.size() - slot_suffix(name).size());
}

/// "korvale/plumbline/…:10/KV0A/20220704:user" -> a word that can stand in a file's name.
std::string build_word(const BuildFacts& build) {
  std::string out = build.device.substr(0, build.device.find_first_of("|,"));
  if (out.empty()) out = "phone";
  for (char& c : out)
    if (!std::isalnum(static_cast<unsigned char>(c)) && c != '-' && c != '_') c = '-';
  return out;
}

class KitWriter {
 public:
  KitWriter(const fs::path& folder, Prepared& out, const PrepareOptions& options,
            const std::vector<Recipe>& recipes, const KitSources& sources, const Context& context)
      : folder_(folder),
        out_(out),
        options_(options),
        recipes_(recipes),
        sources_(sources),
        context_(context) {}

  Status run() {
    for (const char* name : {"flash", "stock"})
      WEXLO_CHECK(make(name));
    for (PreparedImage& image : out_.images)
      if (image.flashed) WEXLO_CHECK(write_image(image));
    for (GivenPart& part : out_.given)
      WEXLO_CHECK(write_given(part));
    WEXLO_CHECK(write_contents());
    WEXLO_CHECK(write_install());
    if (out_.shape.way == Way::Download) WEXLO_CHECK(write_packages());
    if (out_.verification.needs == "own-key") {
      WEXLO_CHECK(make("key"));
      WEXLO_CHECK(write_new(folder_ / kKitKey, options_.signer->public_key()));
      facts_.key_file = kKitKey;
    }
    WEXLO_TRY(out_.recipes, write_recipes(folder_, recipes_));
    if (recipes_.empty()) fs::remove_all(folder_ / "recipes");
    out_.plan = plan_of(out_, options_, sources_, std::move(facts_));
    const std::string plan = format_plan(out_.plan);
    WEXLO_CHECK(write_new(folder_ / "plan.toml", as_view(plan)));
    WEXLO_CHECK(add("plan.txt", plan_for_people(out_.plan)));
    WEXLO_CHECK(write_report(folder_, out_, options_, sources_, context_));
    const std::string manifest =
        kit_manifest(out_, options_, sources_.firmware_name, sha256_hex(as_view(plan)));
    return write_new(folder_ / kKitManifest, as_view(manifest));
  }

 private:
  Status make(const char* name) {
    std::error_code error;
    fs::create_directory(folder_ / name, error);
    if (error) return fail(io_error(error.value(), "cannot make the folder", name));
    return {};
  }

  /// A file that kit.json lists besides the images.
  Status add(const std::string& name, std::string_view text) {
    WEXLO_CHECK(write_new(folder_ / name, as_view(text)));
    out_.files.push_back({name, text.size(), sha256_hex(as_view(text))});
    return {};
  }

  Status write_image(PreparedImage& image) {
    WEXLO_TRY(const Blob stock, sources_.stock(image.partition));
    image.files = {.partition = image.partition,
                   .flash_file = "flash/" + image.partition + ".img",
                   .size = image.patched.bytes.size(),
                   .flash_sha256 = image.patched.sha256,
                   .what = options_.stock ? "stock"
                           : image.given  ? "given"
                                          : "patched"};
    WEXLO_CHECK(write_checked(folder_ / image.files.flash_file, image.patched.bytes,
                              image.files.flash_sha256));
    if (!stock.empty()) {
      image.files.stock_file = "stock/" + image.partition + ".img";
      image.files.stock_size = stock.size();
      image.files.stock_sha256 = sha256_hex(stock.view());
      WEXLO_CHECK(write_checked(folder_ / image.files.stock_file, stock, image.files.stock_sha256));
    }
    facts_.images.push_back(image.files);
    return {};
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

  [[nodiscard]] std::uint64_t limit() const {
    return options_.sheet ? options_.sheet->number("state.download_limit").value_or(0) : 0;
  }

  /// An image from a source, whole or, above the phone's download limit, in sparse pieces.
  Status write_large(const SourcePtr& source, const std::string& stem, PlanFile& whole,
                     std::vector<PlanFile>& pieces) {
    if (limit() == 0 || source->size() <= limit()) {
      whole.file = stem + ".img";
      WEXLO_TRY(OutputFile file, OutputFile::create(folder_ / whole.file, Overwrite::Refuse));
      const auto sink = file_sink(file);
      WEXLO_CHECK(sink->resize(source->size()));
      WEXLO_TRY(const Verified verified, copy_source(*source, {}, *sink, {}, context_));
      whole.size = source->size();
      whole.sha256 = verified.sha256;
      return file.commit(Flush::Leave);
    }
    WEXLO_TRY(const auto cuts, cut_sparse(*source, limit(), context_));
    for (const SparseCut& cut : cuts) {
      const std::string name = fmt::format("{}.piece-{}.img", stem, pieces.size() + 1);
      WEXLO_CHECK(write_sparse_file(folder_ / name, *source, cut, context_));
      WEXLO_TRY(const SourcePtr again, open_file(folder_ / name));
      WEXLO_TRY(const Bytes sum,
                digest_of_start(*again, again->size(), DigestKind::Sha256, context_));
      pieces.push_back({name, again->size(), hex(sum)});
    }
    whole.size = source->size();
    return {};
  }

  /// The firmware's own image of a partition, by its name in super or on the phone.
  [[nodiscard]] const PartitionFacts* stock_of(const std::string& name) const {
    for (const std::string& one : {name, bare(name)})
      if (const auto found = sources_.firmware.choose(one, sources_.firmware_name); found)
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
    if (const PartitionFacts* stock = stock_of(part.logical.empty() ? name : part.logical)) {
      WEXLO_TRY(const SourcePtr source, stock->content->source(context_));
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
        WEXLO_TRY(const SourcePtr source, stock->content->source(context_));
        // More than it had would not go back in.
        if (source->size() > step.before) continue;
        PlanFile file{.file = fmt::format("stock/{}.img", step.partition)};
        WEXLO_TRY(OutputFile output, OutputFile::create(folder_ / file.file, Overwrite::Refuse));
        const auto sink = file_sink(output);
        WEXLO_CHECK(sink->resize(source->size()));
        WEXLO_TRY(const Verified verified, copy_source(*source, {}, *sink, {}, context_));
        WEXLO_CHECK(output.commit(Flush::Leave));
        file.size = source->size();
        file.sha256 = verified.sha256;
        out_.files.push_back(file);
        facts_.contents.emplace(step.partition, file);
      }
    return {};
  }

  Status write_install() {
    if (!out_.install) return {};
    WEXLO_CHECK(make("install"));
    const Given& given = *out_.install;
    PlanFile file{.file = fmt::format("install/{}", base_name(given.file)), .size = given.size};
    WEXLO_TRY(OutputFile output, OutputFile::create(folder_ / file.file, Overwrite::Refuse));
    const auto sink = file_sink(output);
    WEXLO_CHECK(sink->resize(given.size));
    WEXLO_TRY(const Verified verified, copy_source(*given.source, {}, *sink, {}, context_));
    WEXLO_CHECK(output.commit(Flush::Leave));
    file.sha256 = verified.sha256;
    const bool wipes = contains(given.build.demands, "ota-wipe=yes");
    facts_.install = PlanInstall{file, given.payload, wipes};
    out_.files.push_back(file);
    return {};
  }

  /// A member as the phone's own package has it: its name, and packed where that is.
  Result<TarMember> member(const std::string& partition, const Blob& bytes) const {
    std::string name = partition + ".img";
    if (const auto facts = sources_.firmware.choose(partition, sources_.firmware_name);
        facts && !(*facts)->from.empty())
      name = base_name((*facts)->from.substr((*facts)->from.find_last_of('!') + 1));
    if (!name.ends_with(".lz4")) return TarMember{name, open_memory(bytes, name)};
    // A frame with its content's size and checksum, as download-mode packages have it.
    static constexpr unsigned char kHeader[] = {4, 0x22, 0x4d, 0x18, 0x6c, 0x60, 0};
    WEXLO_TRY(Bytes packed,
              encode(Compression::Lz4Frame, bytes,
                     {.level = 1, .header = to_bytes(std::as_bytes(std::span(kHeader)))}));
    return TarMember{name, open_memory(Blob(std::move(packed)), name)};
  }

  Status write_packages() {
    WEXLO_CHECK(make("package"));
    const std::string stem = build_word(out_.build);
    for (const bool back : {false, true}) {
      std::vector<TarMember> members;
      for (const PreparedImage& image : out_.images) {
        if (!image.flashed) continue;
        WEXLO_TRY(const Blob stock, sources_.stock(image.partition));
        const Blob& bytes = back ? stock : image.patched.bytes;
        if (bytes.empty()) continue;
        WEXLO_TRY(TarMember one, member(image.partition, bytes));
        members.push_back(std::move(one));
      }
      if (!back)
        for (const GivenPart& part : out_.given)
          members.push_back({part.given.partition + ".img", part.given.source});
      if (members.empty()) continue;
      const std::string word = back || options_.stock ? "stock" : "patched";
      if (back && options_.stock) {
        facts_.stock_tar = facts_.tar;
        continue;
      }
      const std::string name = fmt::format("{}-{}.tar", stem, word);
      PlanFile file{.file = fmt::format("package/{}.md5", name)};
      WEXLO_CHECK(write_tar_file(folder_ / file.file, members, name, context_));
      WEXLO_TRY(const SourcePtr again, open_file(folder_ / file.file));
      WEXLO_TRY(const Bytes sum,
                digest_of_start(*again, again->size(), DigestKind::Sha256, context_));
      file.size = again->size();
      file.sha256 = hex(sum);
      out_.files.push_back(file);
      (back ? facts_.stock_tar : facts_.tar) = file;
    }
    return {};
  }

  const fs::path& folder_;
  Prepared& out_;
  const PrepareOptions& options_;
  const std::vector<Recipe>& recipes_;
  const KitSources& sources_;
  const Context& context_;
  PlanFacts facts_;
};

}  // namespace

Status write_kit(const fs::path& folder, Prepared& prepared, const PrepareOptions& options,
                 const std::vector<Recipe>& recipes, const KitSources& sources,
                 const Context& context) {
  return KitWriter(folder, prepared, options, recipes, sources, context).run();
}

Plan plan_of(const Prepared& prepared, const PrepareOptions& options, const KitSources& sources,
             PlanFacts facts) {
  const BuildFacts& build = prepared.build;
  facts.device = build.device;
  facts.build = build.fingerprint;
  facts.slots = options.slots;
  facts.wipe = options.wipe;
  facts.verification = prepared.verification.needs;
  facts.verification_why = prepared.verification.why;
  facts.key_sha256 = prepared.verification.key_sha256;
  facts.way = prepared.shape.way;
  facts.slotted = prepared.shape.slotted.value_or(true);
  facts.restore = options.stock;
  facts.recovery_only = prepared.target.partition == "recovery";
  facts.contents_source = fmt::format("the stock package {}", sources.firmware_name);
  // What the bootloader calls the phone, by the package's own info text.
  facts.products = build.device;
  for (const std::string& line : build.demands)
    if (const auto want = parse_demand(line); want && want->kind == Demand::Kind::Require &&
                                              want->only_for.empty() &&
                                              (want->name == "board" || want->name == "product"))
      facts.products = fmt::format("{}", fmt::join(want->values, "|"));
  if (options.sheet) {
    const Sheet& sheet = *options.sheet;
    if (!sheet.text("phone.product").empty()) facts.products = sheet.text("phone.product");
    facts.lock = sheet.text("state.lock");
    facts.this_slot = sheet.text("state.current_slot");
    for (const auto& [name, note] : sheet.access)
      facts.access.emplace(name, note);
  }
  if (prepared.purpose == Purpose::Update) {
    const SettingsParts parts = settings_parts(sources.path);
    facts.update = PlanUpdate{sources.firmware_name,
                              contains(sources.firmware.layers, "payload", &Layer::kind),
                              parts.keeping, parts.wiping};
  }
  return make_plan(facts);
}

}  // namespace wexlo
