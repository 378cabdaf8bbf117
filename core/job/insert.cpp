#include "job/insert.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/contains.hpp"
#include "base/error_kinds.hpp"
#include "base/source_read.hpp"
#include "firmware/content.hpp"
#include "judge/phone_set.hpp"
#include "text/json.hpp"
#include "verified/chain.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

/// Takes an image that is read out of a package, and holds it against what was put in.
class ComparingSink final : public ImageSink {
 public:
  explicit ComparingSink(const SourcePtr& wanted) : wanted_(wanted) {}
  Status resize(std::uint64_t size) override {
    // Packages round up; what they add is zeros.
    if (size >= wanted_->size()) return {};
    return differs(size);
  }
  Status write_at(std::uint64_t offset, View bytes) override {
    WEXLO_TRY(Bytes wanted, read_some(*wanted_, std::min(offset, wanted_->size()), bytes.size()));
    wanted.resize(bytes.size());
    return equal(wanted, bytes) ? Status() : differs(offset);
  }
  Status read_at(std::uint64_t offset, MutableView out) override {
    WEXLO_TRY(Bytes wanted, read_some(*wanted_, std::min(offset, wanted_->size()), out.size()));
    wanted.resize(out.size());
    std::ranges::copy(wanted, out.begin());
    return {};
  }

 private:
  Status differs(std::uint64_t offset) const {
    return fail({.code = ErrorCode::Unexplained,
                 .message = "the package does not give the image again that was put in",
                 .file = wanted_->name(),
                 .offset = offset,
                 .hint = "This is a fault of Wexlo: please report it with the package's kind."});
  }
  const SourcePtr& wanted_;
};

class Insertion {
 public:
  Insertion(const std::string& path, const InsertJob& job, const Context& context)
      : path_(path), job_(job), context_(context) {}

  Result<Inserted> run(const fs::path& out) {
    std::vector<std::string> inputs{path_};
    for (const GivenFile& one : job_.images)
      inputs.push_back(one.file);
    WEXLO_CHECK(check_not_input(out, inputs));
    WEXLO_CHECK(check_outside(out));
    WEXLO_CHECK(check_absent(out, job_.overwrite));
    std::error_code ignored;
    WEXLO_TRY(firmware_, open_firmware(path_, {.context = context_}));
    for (const GivenFile& one : job_.images)
      WEXLO_CHECK(take(one));
    settle();
    if (out_.stopped) return std::move(out_);
    WEXLO_CHECK(fs::is_directory(path_, ignored) ? folder(out) : file(out));
    return std::move(out_);
  }

 private:
  /// A folder is copied whole: into itself, it would never end.
  Status check_outside(const fs::path& out) const {
    std::error_code error;
    if (!fs::is_directory(path_, error)) return {};
    const fs::path from = fs::canonical(path_, error);
    const fs::path to = fs::weakly_canonical(fs::absolute(out, error), error);
    if (std::ranges::mismatch(from, to).in1 != from.end()) return {};
    return fail({.code = ErrorCode::Usage,
                 .message = "the output lies inside the package",
                 .file = out.string(),
                 .found = path_,
                 .hint = "Inputs are never written to: give a name outside that folder."});
  }

  void find(Level level, FindingId id, std::string message, const std::string& where) {
    out_.findings.push_back({level, std::move(id), std::move(message), where});
  }

  Status take(const GivenFile& wish) {
    WEXLO_TRY(const PartitionFacts* const old, firmware_->choose(wish.partition, path_));
    if (contains(wishes_, old->name, &Wish::name))
      return fail({.code = ErrorCode::Usage,
                   .message = fmt::format("two images for {}", old->name),
                   .file = wish.file});
    WEXLO_TRY(Given given, open_given(wish, out_.findings, context_));
    // The old one's kind, by its first bytes.
    WEXLO_TRY(const Bytes start, old->content->head(kProbeSize));
    const auto found = identify_bytes(start);
    const std::string kind = found ? std::string(found->format->kind) : "";
    if (!kind.empty() && kind != given.kind)
      find(Level::Problem, {FindingCode::OtherKind, old->name},
           fmt::format("{} is {} in the package, and {} is {}.", old->name, kind, wish.file,
                       given.kind.empty() ? "not recognised" : given.kind),
           old->name);
    WEXLO_CHECK(hold_against(*old, given));
    // In super a partition grows, or it is told that it cannot.
    if (given.size > old->size && old->inside.empty() && firmware_->kind != "super" &&
        !contains(out_.findings, FindingId(FindingCode::OtherSize, old->name), &Finding::id))
      find(Level::Warning, FindingCode::Larger,
           fmt::format(
               "The image for {} is {} bytes larger than the one it replaces: it may not fit "
               "its partition.",
               old->name, given.size - old->size),
           old->name);
    out_.images.push_back({.partition = old->name,
                           .file = old->from,
                           .old_size = old->size,
                           .new_size = given.size,
                           .old_kind = kind,
                           .new_kind = given.kind});
    if (given.size <= kMostRecorded) {
      WEXLO_TRY(const Bytes sum,
                digest_of_start(*given.source, given.size, DigestKind::Sha256, context_));
      out_.images.back().sha256 = hex(sum);
    }
    wishes_.push_back(wish_for(*old, given.source));
    given_.push_back(std::move(given));
    return {};
  }

  /// What the image says of itself, held against the one that it takes the place of: another
  /// partition's image has the right kind, too.
  Status hold_against(const PartitionFacts& old, const Given& given) {
    const std::string bare(without_slot(old.name));
    if (old.size > kMaxImage || partition_class(bare) == PartitionClass::Other) return {};
    auto bytes = read_partition(old, kMaxImage, context_);
    if (!bytes && is_of_this_run(bytes.error().code)) return fail(bytes.error());
    if (!bytes) return {};  // what is damaged may be replaced
    const SourcePtr before = open_memory(*bytes, old.name);
    const auto named = [](const Source& image) { return partition_of_file(image, "", ""); };
    const std::string is = named(*given.source), was = named(*before);
    const std::string wanted = was.empty() ? bare : was;
    if (!is.empty() && is != wanted)
      find(Level::Problem, {FindingCode::OtherPartition, old.name},
           fmt::format("The image's own footer says that it is for {}, the one in its place is for "
                       "{}.",
                       is, wanted),
           old.name);
    const auto version = [](const Source& image) -> std::optional<unsigned> {
      const auto loaded = load_image(image);
      if (!loaded || !loaded->image || loaded->image->kind() == "vbmeta") return std::nullopt;
      return loaded->image->layout().version;
    };
    const auto now = version(*given.source), then = version(*before);
    if (now && then && *now != *then)
      find(
          Level::Problem, {FindingCode::OtherHeader, old.name},
          fmt::format("The image has header version {}, the one in its place has {}.", *now, *then),
          old.name);
    if (has_no_kernel(*given.source) != has_no_kernel(*before) && now && then)
      find(Level::Problem, {FindingCode::OtherForm, old.name},
           has_no_kernel(*given.source) ? "The image has no kernel, the one in its place has one."
                                        : "The image has a kernel, the one in its place has none.",
           old.name);
    const std::string build = build_in_image(*given.image).fingerprint,
                      own = build_in_image(old).fingerprint;
    if (!build.empty() && !own.empty() && build != own)
      find(Level::Problem, {FindingCode::OtherBuild, old.name},
           fmt::format("The image is of the build {}, the one in its place is of {}.", build, own),
           old.name);
    const auto footer = verified::find_struct(*before, "boot");
    if (footer && *footer && (*footer)->in_footer && given.size != old.size)
      find(
          Level::Problem, {FindingCode::OtherSize, old.name},
          fmt::format("The image has {} bytes, its partition has {}: a loader looks for the footer "
                      "at the partition's end.",
                      given.size, old.size),
          old.name);
    return {};
  }

  /// A boot image without a kernel, as init_boot is.
  static bool has_no_kernel(const Source& source) {
    const auto loaded = load_image(source);
    return loaded && loaded->image && loaded->image->kind() == "boot" &&
           loaded->image->number("kernel_size") == 0;
  }

  void settle() {
    for (Finding& one : out_.findings)
      if (one.level == Level::Problem && contains(job_.accept, one.id.text())) {
        one.level = Level::Warning;
        one.message += " (accepted)";
      }
    out_.stopped = contains(out_.findings, Level::Problem, &Finding::level);
  }

  void tell() {
    std::ranges::copy(out_.report.notes, std::back_inserter(out_.findings));
    if (std::ranges::any_of(wishes_, [](const Wish& one) { return is_covered(one.name); }) &&
        firmware_->find("vbmeta") != nullptr && !contains(wishes_, "vbmeta", &Wish::name))
      find(Level::Note, FindingCode::VbmetaStays,
           "vbmeta in the package covers the image that was there: a locked phone refuses the "
           "new one. wexlo check on the output tells what a phone makes of it.",
           "vbmeta");
  }

  static bool is_covered(const std::string& name) { return is_boot_class(without_slot(name)); }

  /// Every image comes out of the package as it was put in, with all that the package promises of
  /// it but its sums.
  Status verify(const Firmware& now) const {
    for (const Wish& wish : wishes_) {
      const auto at = std::ranges::find_if(now.partitions, [&](const PartitionFacts& one) {
        return one.name == wish.name && one.from == wish.from && one.inside == wish.inside;
      });
      if (at == now.partitions.end())
        return fail({.code = ErrorCode::Unexplained,
                     .message = fmt::format("the package does not list {} any more", wish.name),
                     .file = path_});
      ComparingSink sink(wish.image);
      auto read = at->content->read(sink, {.digest = false}, context_);
      if (!read) return fail(std::move(read).error());
    }
    if (now.partitions.size() == firmware_->partitions.size()) return {};
    return fail({.code = ErrorCode::Unexplained,
                 .message = "the package lists another number of partitions than before",
                 .file = path_,
                 .expected = fmt::format("{}", firmware_->partitions.size()),
                 .found = fmt::format("{}", now.partitions.size())});
  }

  Status check_sums(const Firmware& now) const {
    std::set<std::shared_ptr<const PackageSum>> sums;
    for (const PartitionFacts& one : now.partitions)
      if (one.sum && sums.insert(one.sum).second)
        WEXLO_CHECK(check_sum_line(*one.sum->source, one.sum->line, context_));
    return {};
  }

  Status file(const fs::path& out) {
    WEXLO_TRY(const SourcePtr package, open_input(path_, context_));
    // The line names the tar that it is the sum of.
    std::string sum_name = out.filename().string();
    if (sum_name.ends_with(".md5")) sum_name.resize(sum_name.size() - 4);
    WEXLO_TRY(const SourcePtr now,
              insert_into(package, firmware_->single, wishes_, {sum_name, context_}, out_.report));
    WEXLO_TRY(const FirmwarePtr again, open_source(now, {.context = context_}));
    WEXLO_CHECK(verify(*again));
    tell();
    WEXLO_TRY(OutputFile output, OutputFile::create(out, job_.overwrite));
    const auto sink = file_sink(output);
    WEXLO_CHECK(sink->resize(now->size()));
    // A sum over gigabytes takes longer than writing them.
    TaskGroup sums(context_);
    sums.submit(0, [&] { return check_sums(*again); });
    WEXLO_TRY(const Verified copied,
              copy_source(*now, {}, *sink, {.digest = now->size() <= kMostRecorded}, context_));
    WEXLO_CHECK(sums.wait());
    out_.size = now->size();
    out_.sha256 = copied.sha256;
    return output.commit(now->size() <= kMostWaitedFor ? Flush::Wait : Flush::Leave);
  }

  Status folder(const fs::path& out) {
    WEXLO_TRY(OutputFolder output,
              OutputFolder::create(out, job_.overwrite, std::string(kInsertManifest)));
    WEXLO_TRY(const auto changed, insert_into_folder(path_, wishes_, {"", context_}, out_.report));
    if (auto copied = copy_folder(output.path(), changed); !copied)
      return fail(output.with_final_name(std::move(copied).error()));
    WEXLO_TRY(const FirmwarePtr again,
              open_firmware(output.path().string(), {.context = context_}));
    WEXLO_CHECK(verify(*again));
    WEXLO_CHECK(check_sums(*again));
    tell();
    const std::string manifest = manifest_text();
    WEXLO_CHECK(write_new(output.path() / std::string(kInsertManifest), as_view(manifest)));
    return output.commit();
  }

  /// Links are copied as links; what changed comes from its source.
  Status copy_folder(const fs::path& to, const std::map<std::string, SourcePtr>& changed) {
    std::error_code error;
    for (fs::recursive_directory_iterator at(path_, error), end; at != end && !error;
         at.increment(error)) {
      WEXLO_CHECK(check_stop(context_));
      const fs::path relative = at->path().lexically_relative(path_);
      if (relative == kInsertManifest) continue;
      const auto one = changed.find(relative.generic_string());
      if (one != changed.end()) {
        WEXLO_CHECK(copy_file(*one->second, to / relative));
      } else if (at->is_symlink()) {
        fs::copy_symlink(at->path(), to / relative, error);
      } else if (at->is_directory()) {
        fs::create_directory(to / relative, error);
      } else if (at->is_regular_file()) {
        fs::copy_file(at->path(), to / relative, error);
        out_.size += fs::file_size(to / relative, error);
      }
      if (error) return fail(io_error(error.value(), "cannot copy", at->path().string()));
    }
    if (error) return fail(io_error(error.value(), "cannot read the folder", path_));
    return {};
  }

  Status copy_file(const Source& source, const fs::path& to) {
    WEXLO_TRY(OutputFile output, OutputFile::create(to, Overwrite::Refuse));
    const auto sink = file_sink(output);
    WEXLO_CHECK(sink->resize(source.size()));
    WEXLO_CHECK(copy_source(source, {}, *sink, {}, context_));
    out_.size += source.size();
    return output.commit(Flush::Leave);
  }

  [[nodiscard]] std::string manifest_text() const {
    Json images = Json::array();
    for (const InsertedImage& one : out_.images)
      images.push_back({{"partition", one.partition},
                        {"in", one.file},
                        {"size", one.new_size},
                        {"sha256", one.sha256.empty() ? Json() : Json(one.sha256)}});
    const Json all = {{"format", 1},
                      {"package", fs::path(path_).filename().string()},
                      {"inserted", std::move(images)}};
    return all.dump() + "\n";
  }

  std::string path_;
  const InsertJob& job_;
  const Context& context_;
  FirmwarePtr firmware_;
  std::vector<Given> given_;
  std::vector<Wish> wishes_;
  Inserted out_;
};

}  // namespace

Result<Inserted> insert(const std::string& firmware, const InsertJob& job, const fs::path& out,
                        const Context& context) {
  std::string path = firmware;
  while (path.size() > 1 && path.ends_with('/'))
    path.pop_back();
  return Insertion(path, job, context).run(out);
}

}  // namespace wexlo
