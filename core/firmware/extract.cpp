#include "firmware/extract.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <map>
#include <mutex>
#include <set>

#include "base/source.hpp"
#include "firmware/formats.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

constexpr std::uint64_t kMaxManifest = 4u << 20;

/// Progress of several at once, counted in bytes of the images.
class Gauge {
 public:
  Gauge(const Context& context, std::uint64_t total) : context_(context), total_(total) {}
  /// A context whose progress counts for `share` bytes.
  Context part(std::uint64_t share) {
    Context out = context_;
    if (!context_.progress) return out;
    auto mine = std::make_shared<std::uint64_t>(0);
    out.progress = [this, share, mine](std::uint64_t done, std::uint64_t of) {
      const std::lock_guard lock(mutex_);
      const double part = of == 0 ? 1.0 : static_cast<double>(done) / static_cast<double>(of);
      const auto now = static_cast<std::uint64_t>(part * static_cast<double>(share));
      // Workers report out of order: it never goes back.
      if (now <= *mine) return;
      done_ += now - *mine;
      *mine = now;
      context_.progress(std::min(done_, total_), total_);
    };
    return out;
  }

 private:
  const Context& context_;
  std::uint64_t total_, done_ = 0;
  std::mutex mutex_;
};

class Extraction {
 public:
  Extraction(std::vector<const PartitionFacts*> chosen, const ExtractOptions& options,
             const fs::path& folder, const Context& context)
      : chosen_(std::move(chosen)),
        options_(options),
        folder_(folder),
        context_(context),
        files_(chosen_.size()),
        out_(chosen_.size()) {}

  [[nodiscard]] fs::path target(const PartitionFacts& one) const {
    return options_.file.empty() ? folder_ / (one.name + ".img") : options_.file;
  }

  Status run() {
    std::uint64_t total = 0;
    for (const PartitionFacts* one : chosen_)
      total += one->size;
    std::set<std::shared_ptr<const PackageSum>> sums;
    for (const PartitionFacts* one : chosen_)
      if (one->sum && !options_.quick && sums.insert(one->sum).second)
        total += one->sum->line.covers;
    Gauge gauge(context_, total);
    // What keeps all jobs busy by itself, or comes out of one stream, is not split further.
    std::map<const void*, std::vector<std::size_t>> streams;
    std::vector<std::vector<std::size_t>> groups;
    for (std::size_t i = 0; i < chosen_.size(); ++i) {
      const Content& content = *chosen_[i]->content;
      if (content.parallel()) {
        WEXLO_CHECK(read(i, gauge, context_.jobs));
      } else if (content.stream() != nullptr) {
        streams[content.stream()].push_back(i);
      } else {
        groups.push_back({i});
      }
    }
    for (auto& [stream, members] : streams)
      groups.push_back(std::move(members));
    const std::size_t tasks_count = groups.size() + sums.size();
    const unsigned each = tasks_count > 1 ? 1 : context_.jobs;
    TaskGroup tasks(context_);
    for (const auto& sum : sums)
      tasks.submit(0, [&, sum] {
        return check_sum_line(*sum->source, sum->line, gauge.part(sum->line.covers));
      });
    for (const auto& group : groups)
      tasks.submit(0, [&]() -> Status {
        for (const std::size_t i : group)
          WEXLO_CHECK(read(i, gauge, each));
        return {};
      });
    return tasks.wait();
  }

  /// Together they are either waited for, or left to the system: docs/decisions/0012.
  [[nodiscard]] Flush flush() const {
    std::uint64_t total = 0;
    for (const PartitionFacts* one : chosen_)
      total += one->size;
    return total > kMostWaitedFor ? Flush::Leave : Flush::Wait;
  }

  Status commit() {
    for (auto& file : files_)
      WEXLO_CHECK(file->commit(flush()));
    return {};
  }
  std::vector<ExtractedPartition> take() { return std::move(out_); }

 private:
  /// A digest that nothing is held against is for the record: docs/decisions/0013.
  [[nodiscard]] bool digested(const PartitionFacts& one) const {
    if (options_.digests) return true;
    return !options_.quick && one.size <= kMostRecorded;
  }

  Status read(std::size_t i, Gauge& gauge, unsigned jobs) {
    const PartitionFacts& one = *chosen_[i];
    Context context = gauge.part(one.size);
    context.jobs = jobs;
    WEXLO_TRY(ReadPartition read, read_partition(one, target(one), options_.overwrite,
                                                 {.digest = digested(one)}, context));
    files_[i].emplace(std::move(read.file));
    out_[i] = {.name = one.name,
               .file = target(one),
               .size = one.size,
               .sha256 = std::move(read.verified.sha256),
               .verified = !read.verified.proof.empty(),
               .proof = std::move(read.verified.proof),
               .from = one.from,
               .remark = std::move(read.verified.remark)};
    if (!out_[i].verified && one.sum && !options_.quick) {
      out_[i].verified = true;
      out_[i].proof = "md5 of the package";
    }
    return out_[i].verified ? Status() : look_inside(i);
  }

  /// No digest was held against the bytes: for images whose form is known, that has to do.
  Status look_inside(std::size_t i) {
    const std::string bare(without_slot(chosen_[i]->name));
    const bool known = partition_class(bare) != PartitionClass::Other;
    if (!known || out_[i].size > kMaxImage) return {};
    RawBuffer bytes(static_cast<std::size_t>(out_[i].size));
    WEXLO_CHECK(files_[i]->read_at(0, bytes.view()));
    const auto loaded = load_image(bytes.release(), chosen_[i]->name);
    if (!loaded) out_[i].damage = describe(loaded.error());
    return {};
  }

  std::vector<const PartitionFacts*> chosen_;
  const ExtractOptions& options_;
  const fs::path& folder_;
  const Context& context_;
  std::vector<std::optional<OutputFile>> files_;
  std::vector<ExtractedPartition> out_;
};

/// The text of the folder's manifest so far; empty when there is none, or it shall be replaced.
Result<std::string> manifest_before(const fs::path& folder, Overwrite overwrite) {
  std::error_code ignored;
  if (overwrite == Overwrite::Replace || !fs::exists(folder / kExtractManifest, ignored))
    return std::string();
  WEXLO_TRY(const SourcePtr source, open_file(folder / kExtractManifest));
  WEXLO_TRY(const Blob bytes, read_all(*source, kMaxManifest));
  return std::string(as_text(bytes.view()));
}

}  // namespace

std::vector<std::string> boot_chain(const Firmware& firmware) {
  std::vector<std::string> names;
  const auto take = [&](auto is_wanted) {
    for (const PartitionFacts& one : firmware.partitions) {
      const std::string_view bare = without_slot(one.name);
      const bool fits = is_wanted(one.name) || (is_wanted(bare) && one.size > 0);
      if (fits && std::ranges::find(names, one.name) == names.end()) names.push_back(one.name);
    }
  };
  for (const PartitionRow& row : partition_rows())
    if (row.chain) take([&](std::string_view name) { return name == row.name; });
  // Makers chain structs of other names, too.
  take([](std::string_view name) { return name.starts_with("vbmeta_"); });
  return names;
}

Result<std::vector<const PartitionFacts*>> choose_partitions(const Firmware& firmware,
                                                             const std::string& firmware_name,
                                                             const ExtractOptions& options) {
  std::vector<const PartitionFacts*> chosen;
  std::vector<std::string> names = options.partitions;
  if (options.all)
    for (const PartitionFacts& partition : firmware.partitions)
      names.push_back(partition.name);
  else if (names.empty())
    names = boot_chain(firmware);
  if (names.empty() && firmware.single) names.push_back(firmware.partitions.front().name);
  for (const std::string& name : names) {
    WEXLO_TRY(const PartitionFacts* const partition, firmware.choose(name, firmware_name));
    if (std::ranges::find(chosen, partition) == chosen.end()) chosen.push_back(partition);
  }
  if (chosen.empty())
    return fail({.code = ErrorCode::NotFound,
                 .message = "the firmware has no partition of the boot chain",
                 .file = firmware_name,
                 .hint = "Name partitions, or give --all; --list shows what there is."});
  return chosen;
}

Result<Extracted> extract(const Firmware& firmware, const std::string& firmware_name,
                          const ExtractOptions& options, const fs::path& folder,
                          const Context& context) {
  Extracted out;
  WEXLO_TRY(auto chosen, choose_partitions(firmware, firmware_name, options));
  if (options.all)
    std::erase_if(chosen, [&](const PartitionFacts* one) {
      if (one->size > 0) return false;
      out.empty.push_back(one->name);
      return true;
    });
  if (!options.file.empty() && chosen.size() != 1)
    return fail({.code = ErrorCode::Usage,
                 .message = "one file cannot hold several partitions",
                 .file = options.file.string(),
                 .found = fmt::format("{} partitions", chosen.size()),
                 .hint = "Give the name of a folder, or name one partition."});
  // Outlives the outputs: the folder goes only when they are gone.
  WEXLO_TRY(MadeFolders made,
            options.file.empty() ? MadeFolders::make(folder) : MadeFolders::above(options.file));
  Extraction extraction(chosen, options, folder, context);
  for (const PartitionFacts* one : chosen) {
    WEXLO_CHECK(check_not_input(extraction.target(*one), options.inputs));
    WEXLO_CHECK(check_absent(extraction.target(*one), options.overwrite));
  }
  if (!options.file.empty()) {
    WEXLO_CHECK(extraction.run());
    out.partitions = extraction.take();
    WEXLO_CHECK(extraction.commit());
    made.keep();
    return out;
  }
  WEXLO_TRY(const std::string before, manifest_before(folder, options.overwrite));
  // A folder of another package is refused before anything is read.
  WEXLO_TRY(std::string manifest, extract_manifest(firmware, firmware_name, {}, before));
  WEXLO_CHECK(extraction.run());
  out.partitions = extraction.take();
  WEXLO_TRY(manifest, extract_manifest(firmware, firmware_name, out, before));
  // First what the images are, then the images: a run that is killed between them leaves none whose
  // origin nothing tells.
  WEXLO_CHECK(write_file(folder / kExtractManifest, as_view(manifest), Overwrite::Replace,
                         extraction.flush()));
  WEXLO_CHECK(extraction.commit());
  made.keep();
  return out;
}

}  // namespace wexlo
