#include "firmware/package.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/contains.hpp"
#include "firmware/file_names.hpp"
#include "firmware/formats.hpp"
#include "firmware/package_devices.hpp"
#include "firmware/package_texts.hpp"
#include "firmware/pieces.hpp"
#include "firmware/super.hpp"
#include "firmware/transfer_files.hpp"
#include "firmware/versioned_names.hpp"

namespace wexlo {
namespace {

constexpr std::size_t kMaxProbed = 300;  ///< files that are looked into when no name tells
constexpr std::size_t kMaxPartitions = 4096;
constexpr std::string_view kPayload = "payload.bin";
constexpr std::string_view kSparse = "sparse";  ///< the layer

class PackageReader {
 public:
  PackageReader(const Bundle& bundle, const Opening& opening)
      : bundle_(bundle), opening_(opening), used_(bundle.items.size()), listings_(bundle) {}

  Result<FirmwarePtr> read(Layer layer) {
    WEXLO_CHECK(check_nesting(opening_.depth, bundle_.name));
    WEXLO_CHECK(check_paths(bundle_));
    out_->layers.push_back(std::move(layer));
    out_->kind = out_->layers.front().kind;
    // What tells most comes first, and takes its files away from the next.
    using Step = Status (PackageReader::*)();
    for (const Step step :
         {&PackageReader::texts, &PackageReader::transfer_lists, &PackageReader::listed_pieces,
          &PackageReader::images, &PackageReader::archives, &PackageReader::unnamed})
      WEXLO_CHECK((this->*step)());
    names_.tell(out_->build);
    if (out_->partitions.empty()) return fail(trouble_ ? *trouble_ : nothing());
    if (out_->partitions.size() > kMaxPartitions)
      return fail({.code = ErrorCode::LimitExceeded,
                   .message = "too many partitions",
                   .file = bundle_.name,
                   .expected = fmt::format("at most {}", kMaxPartitions)});
    return std::move(out_);
  }

 private:
  Error nothing() const {
    return {.code = ErrorCode::NoPartitions,
            .message = "nothing in it is known as a partition",
            .file = bundle_.name,
            .expected = "payload.bin, images, a transfer list, or packages with such",
            .found = fmt::format("{} files", bundle_.items.size()),
            .hint = "If the images are packed in another way, unpack them and give the folder."};
  }

  void use(const Item& item) {
    used_[static_cast<std::size_t>(&item - bundle_.items.data())] = true;
  }
  bool used(const Item& item) const {
    return used_[static_cast<std::size_t>(&item - bundle_.items.data())];
  }

  Status texts() {
    WEXLO_TRY(const PackageTexts told, read_package_texts(bundle_, opening_, listings_, *out_));
    for (const Item* item : told.files)
      use(*item);
    over_the_air_ = told.over_the_air;
    script_patches_ = told.patches;
    return {};
  }

  Status transfer_lists() {
    for (const TransferFiles& files : find_transfers(bundle_)) {
      WEXLO_CHECK(check_partition_name(files.partition));
      use(*files.list);
      use(*files.data);
      if (auto added = add_transfer(files); !added)
        WEXLO_CHECK(add_unreadable(*files.data, files.partition, std::move(added).error()));
      if (files.patches != nullptr) use(*files.patches);
      over_the_air_ = true;
    }
    for (const ScriptPatch& one : script_patches_) {
      if (contains(out_->partitions, one.partition, &PartitionFacts::name)) continue;
      WEXLO_TRY(auto patched, open_script_patch(one, bundle_, opening_));
      if (!patched) continue;
      out_->incremental = true;
      add(std::move(*patched));
    }
    return {};
  }

  Status add_transfer(const TransferFiles& files) {
    WEXLO_TRY(PartitionFacts one, open_transfer(files, bundle_.name, opening_));
    out_->incremental |= one.incremental;
    add(std::move(one));
    return {};
  }

  void add(PartitionFacts facts) { out_->partitions.push_back(std::move(facts)); }

  bool is_image(const Item& item) const {
    return !used(item) && item.size > 0 && !item.path.starts_with("META-INF/") &&
           base_name(item.path) != kPayload &&
           (read_file_name(item.path).image || listings_.name_of(item));
  }

  /// Partitions that a listing puts together of several files.
  Status listed_pieces() {
    for (const ListedPieces& pieces : listings_.pieces()) {
      const auto taken = [&](const auto& part) { return part.item != nullptr && used(*part.item); };
      if (std::ranges::any_of(pieces.parts, taken)) continue;  // another listing says the same
      WEXLO_CHECK(check_stop(opening_.context));
      const auto& first = *std::ranges::find_if(
          pieces.parts, [](const auto& part) { return part.item != nullptr; });
      for (const auto& part : pieces.parts)
        if (part.item != nullptr) use(*part.item);
      if (auto joined = join_listed(pieces, listings_, opening_); !joined)
        WEXLO_CHECK(add_unreadable(*first.item, pieces.partition, std::move(joined).error()));
      else
        WEXLO_CHECK(add_joined(pieces.partition, *first.item, pieces.parts.size(), true,
                               std::move(*joined)));
    }
    return {};
  }

  /// Files of images, numbered ones together.
  Status images() {
    std::map<std::string, std::vector<const Item*>> sets;
    std::vector<const Item*> alone;
    for (const Item& item : bundle_.items) {
      if (!is_image(item) || read_file_name(item.path).archive) continue;
      const FileName file = read_file_name(item.path);
      const std::string folder =
          item.path.substr(0, item.path.size() - base_name(item.path).size());
      if (file.number)
        sets[folder + listings_.name_of(item).value_or(file.set)].push_back(&item);
      else
        alone.push_back(&item);
    }
    for (auto& [key, items] : sets) {
      WEXLO_TRY(const bool joined, add_set(items));
      if (!joined) alone.insert(alone.end(), items.begin(), items.end());
    }
    std::ranges::sort(alone);
    for (const Item* item : alone)
      WEXLO_CHECK(add_image(*item));
    return {};
  }

  /// Joins a numbered set; false: they are no set.
  Result<bool> add_set(const std::vector<const Item*>& items) {
    const Item& first = **std::ranges::min_element(
        items, {}, [](const Item* item) { return *read_file_name(item->path).number; });
    const auto said = listings_.name_of(first);
    const std::string name = said.value_or(read_file_name(first.path).set);
    auto joined = join_numbered(items, name, listings_, opening_);
    if (joined && !*joined) return false;
    for (const Item* item : items)
      use(*item);
    if (!joined)
      WEXLO_CHECK(add_unreadable(first, name, std::move(joined).error()));
    else
      WEXLO_CHECK(add_joined(name, first, items.size(), said.has_value(), std::move(**joined)));
    return true;
  }

  Status add_joined(const std::string& name, const Item& first, std::size_t count, bool listed,
                    JoinedPieces pieces) {
    std::vector<Layer> layers;
    if (pieces.sparse) layers.push_back({std::string(kSparse), ""});
    return add_content({.name = name,
                        .stored_size = pieces.stored_size,
                        .from = fmt::format("{} ({} pieces)", first.path, count),
                        .listed = listed},
                       pieces.source, layers, std::move(pieces.stored));
  }

  /// One damaged or locked file does not hide the others: it is told to who wants it.
  Status add_unreadable(const Item& item, const std::string& name, Error why) {
    if (ends_package(why.code)) return fail(std::move(why));
    out_->note(FindingCode::UnreadableFile,
               fmt::format("{} does not read: {}", item.path, describe(why)));
    add({.name = name,
         .size = item.size,
         .stored_size = item.stored_size,
         .from = item.path,
         .content = unreadable(std::move(why))});
    return {};
  }

  Status add_image(const Item& item) {
    WEXLO_CHECK(check_stop(opening_.context));
    const FileName file = read_file_name(item.path);
    const auto said = listings_.name_of(item);
    const std::string name = said.value_or(names_.partition(file));
    use(item);
    auto opened = item.open(opening_.context);
    if (!opened) return add_unreadable(item, name, std::move(opened).error());
    const SourcePtr source = *opened;
    auto inner = unwrap(source, file.packed, opening_.deeper());
    if (!inner) return add_unreadable(item, name, std::move(inner).error());
    if (inner->format != nullptr && inner->format->open != nullptr) {
      const std::string_view kind = inner->format->kind;
      if (kind != "super" && kind != "super-empty" && kind != "gpt") {
        WEXLO_TRY(FirmwarePtr nested, nested_of(*inner));
        return nested ? take(std::move(nested), item.path) : Status();
      }
    }
    if (auto named = check_named(*inner); !named)
      return add_unreadable(item, name, std::move(named).error());
    tell_not_packed(*out_, file, *inner, item.path);
    if (listings_.has_slices(item)) return add_slices(item, inner->source);
    std::vector<StoredFile> stored;
    auto promises = listings_.promises_of(item);
    // What the container says of the file counts where what packs it says nothing.
    const bool sums = inner->source != source && source->checker() != nullptr &&
                      inner->source->own_check().empty();
    if (!promises.empty() || sums) stored.push_back({source, std::move(promises)});
    return add_content({.name = name,
                        .stored_size = item.stored_size,
                        .from = item.path,
                        .listed = said.has_value()},
                       inner->source, inner->layers, std::move(stored));
  }

  /// @param facts   what is known of it beside its content
  /// @param layers  what was taken off its file
  Status add_content(PartitionFacts facts, const SourcePtr& whole, const std::vector<Layer>& layers,
                     std::vector<StoredFile> stored) {
    // A plain file is what the listing speaks of: its digest is counted while it is read.
    std::vector<Promise> promises;
    if (stored.size() == 1 && stored.front().source == whole) {
      promises = std::move(stored.front().promises);
      stored.clear();
    }
    if (const auto at = std::ranges::find(promises, DigestKind::Sha256, &Promise::kind);
        at != promises.end())
      facts.sha256 = at->hex;
    facts.size = whole->size();
    for (const Layer& layer : layers) {
      facts.detail += (facts.detail.empty() ? "" : " > ") + layer.kind;
      (layer.kind == kSparse ? facts.sparse : facts.packed) = true;
    }
    facts.content = content_of(whole, std::move(promises));
    if (!stored.empty()) facts.content = listed_content(facts.content, std::move(stored));
    const std::string name = facts.name, from = facts.from;
    add(std::move(facts));
    WEXLO_TRY(const Bytes start, read_some(*whole, 0, kProbeSize));
    if (looks_like_super(start)) return add_logical(name, whole, from);
    return {};
  }

  /// The logical partitions behind one that was just added.
  Status add_logical(const std::string& name, const SourcePtr& whole, const std::string& from) {
    const DeviceFinder devices = device_finder(bundle_, opening_);
    FirmwarePtr logical = open_logical(name, whole, devices, *out_);
    return logical ? take(std::move(logical), from) : Status();
  }

  Status add_slices(const Item& item, const SourcePtr& whole) {
    for (const ListingRow& row : listings_.rows_of(item)) {
      const Slice slice = *slice_of(row);
      WEXLO_TRY(SourcePtr window,
                open_window(whole, slice.start, slice.length, whole->name() + "!" + row.partition));
      add({.name = row.partition,
           .size = slice.length,
           .stored_size = slice.length,
           .from = item.path,
           .content = content_of(std::move(window))});
    }
    return {};
  }

  /// Packages inside this one.
  Status archives() {
    for (const Item& item : bundle_.items) {
      const FileName file = read_file_name(item.path);
      const bool payload = base_name(item.path) == kPayload;
      if (used(item) || !(file.archive || payload) || item.size == 0) continue;
      WEXLO_CHECK(check_stop(opening_.context));
      WEXLO_TRY(const SourcePtr source, item.open(opening_.context));
      WEXLO_TRY(Unwrapped inner, unwrap(source, file.packed, opening_.deeper()));
      if (auto further = look_further(inner); !further) {
        if (ends_package(further.error().code)) return further;
        tell_trouble(std::move(further).error());
        continue;
      }
      if (inner.format == nullptr || inner.format->open == nullptr) continue;
      use(item);
      if (inner.format->kind == "payload") over_the_air_ = true;
      WEXLO_TRY(FirmwarePtr nested, nested_of(inner));
      if (!nested) continue;
      nested->layers.insert(nested->layers.begin(), inner.layers.begin(), inner.layers.end());
      WEXLO_CHECK(take(std::move(nested), payload ? "" : item.path));
    }
    if (over_the_air_ && out_->kind == "zip") out_->kind = "ota-zip";
    return {};
  }

  /// nullptr: a package without partitions, e.g. one of apps.
  Result<FirmwarePtr> nested_of(const Unwrapped& inner) {
    Opening deeper = opening_.deeper();
    if (!out_->build.base.empty()) deeper.base_build = out_->build.base;
    auto nested = inner.format->open(inner.source, deeper);
    if (nested) return nested;
    if (ends_package(nested.error().code)) return nested;
    // The others are worth having; without any it is what is told.
    if (nested.error().code != ErrorCode::NoPartitions) tell_trouble(std::move(nested).error());
    return FirmwarePtr();
  }

  void tell_trouble(Error why) {
    out_->note(FindingCode::UnreadablePackage, describe(why));
    if (!trouble_) trouble_ = std::move(why);
  }

  /// Files that no name gives away: looked into when nothing else was found.
  Status unnamed() {
    if (!out_->partitions.empty()) return {};
    std::size_t probed = 0;
    for (const Item& item : bundle_.items) {
      if (used(item) || item.size < 512 || item.path.starts_with("META-INF/")) continue;
      if (++probed > kMaxProbed) break;
      auto source = item.open(opening_.context);
      if (!source) continue;
      const auto start = read_some(**source, 0, kProbeSize);
      const Format* format = start ? find_format(*start) : nullptr;
      if (format == nullptr || format->kind == "dtb") continue;
      WEXLO_CHECK(add_image(item));
    }
    return {};
  }

  Status take(FirmwarePtr nested, const std::string& path) {
    for (PartitionFacts& one : nested->partitions) {
      if (one.from.empty())
        one.from = path;
      else if (!path.empty() && one.from != path)
        one.from = path + "!" + one.from;
      add(std::move(one));
    }
    // The way down is told of the first package inside; of all others that they are there.
    if (!told_)
      out_->layers.insert(out_->layers.end(), nested->layers.begin(), nested->layers.end());
    told_ = true;
    out_->build.merge(nested->build);
    out_->signs.merge(nested->signs);
    out_->incremental |= nested->incremental;
    std::ranges::move(nested->groups, std::back_inserter(out_->groups));
    std::ranges::move(nested->notes, std::back_inserter(out_->notes));
    return {};
  }

  const Bundle& bundle_;
  const Opening& opening_;
  std::vector<bool> used_;
  FirmwarePtr out_ = std::make_unique<Firmware>();
  ListingIndex listings_;
  std::optional<Error> trouble_;  ///< the first package inside that does not read
  VersionedNames names_;
  std::vector<ScriptPatch> script_patches_;
  bool over_the_air_ = false, told_ = false;
};

}  // namespace

Result<FirmwarePtr> open_package(const Bundle& bundle, Layer layer, const Opening& opening) {
  return PackageReader(bundle, opening).read(std::move(layer));
}

}  // namespace wexlo
