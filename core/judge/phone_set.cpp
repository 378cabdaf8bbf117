#include "judge/phone_set.hpp"

#include <algorithm>
#include <mutex>

#include "base/error_kinds.hpp"
#include "text/text.hpp"
#include "verified/draft.hpp"
#include "verified/struct_info.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

bool is_partition_word(std::string_view stem) {
  const std::string_view bare = without_slot(stem);
  return partition_class(bare) != PartitionClass::Other || bare == "misc" || bare == "super" ||
         bare == "system" || bare == "vendor" || bare == "product" || bare == "odm" ||
         bare == "system_ext";
}

/// A boot header of version 3 or 4 without a kernel, by its first bytes: the image may be cut.
bool is_init_boot(const Source& image) {
  const auto head = read_some(image, 0, 44);
  if (!head || head->size() < 44) return false;
  const auto number = [&](std::size_t at) {
    return load<std::uint32_t, std::endian::little>(head->data() + at);
  };
  constexpr std::size_t kKernelSize = 8, kRamdiskSize = 12, kVersion = 40;
  return number(kVersion) >= 3 && number(kVersion) <= 4 && number(kKernelSize) == 0 &&
         number(kRamdiskSize) != 0;
}

/// The name that the own footer gives. @param stem  of the file's name: of several it is the one
std::string claimed_name(const Source& image, std::string_view stem) {
  const auto place = verified::find_struct(image, "boot");
  if (!place || !*place) return {};
  auto bytes = read_some(image, (*place)->offset, (*place)->size);
  if (!bytes) return {};
  const auto vbmeta = verified::parse_vbmeta(Blob(std::move(*bytes)));
  const auto all =
      vbmeta ? verified::descriptors(*vbmeta) : Result<std::vector<verified::Descriptor>>{};
  if (!all) return {};
  std::vector<std::string> names;
  for (const verified::Descriptor& one : *all)
    if (const auto name = verified::partition_of(one); !name.empty()) names.emplace_back(name);
  if (names.empty()) return {};
  // A top-level struct in boot's footer speaks of other partitions, too.
  const auto called = std::ranges::find_if(
      names, [&](const std::string& name) { return stem == name || stem.starts_with(name + "-"); });
  if (called != names.end()) return *called;
  const auto boot = std::ranges::find(names, "boot");
  return boot != names.end() ? *boot : names.front();
}

}  // namespace

std::string partition_of_file(const Source& image, const std::string& path,
                              const std::string& kind) {
  std::string stem(base_name(path));
  stem = stem.substr(0, stem.find('.'));
  if (std::string name = claimed_name(image, stem); !name.empty()) return name;
  if (is_partition_word(stem)) return stem;
  // `init_boot-patched.img`: the longest partition's name that it begins with.
  std::string_view longest;
  for (const PartitionRow& row : partition_rows())
    if (row.chain && stem.starts_with(row.name) && row.name.size() > longest.size())
      longest = row.name;
  if (!longest.empty()) return std::string(longest);
  return kind == "boot" && is_init_boot(image) ? "init_boot" : kind;
}

struct PhoneSet::Opened {
  std::mutex mutex;
  SourcePtr source;
};

void PhoneSet::add(const PhoneSet& other) {
  for (const Member& member : other.members_)
    put(member);
  std::ranges::copy(other.firmwares_, std::back_inserter(firmwares_));
  whole_ = whole_ || other.whole_;
}

void PhoneSet::add(const Firmware& firmware) {
  for (const PartitionFacts& one : firmware.partitions)
    put({one.name, "", one.size, one.content, false});
}

void PhoneSet::add(const std::string& partition, Blob bytes) {
  add(partition, open_memory(std::move(bytes), partition));
}

void PhoneSet::add(const std::string& partition, const SourcePtr& source) {
  std::string other;
  const Member* there = find_slotted(partition, suffix("", other));
  const std::string name = there == nullptr ? partition : there->name;
  put({name, "memory", source->size(), content_of(source), true});
}

Status PhoneSet::add(const std::string& path, const Context& context) {
  std::error_code ignored;
  auto opened = open_firmware(path, {.context = context});
  if (!opened && opened.error().code == ErrorCode::BadMagic && fs::is_regular_file(path, ignored))
    return add_raw(path, std::move(opened).error());
  if (!opened) return fail(std::move(opened).error());
  FirmwarePtr firmware = std::move(*opened);
  const bool single = firmware->single;
  for (const PartitionFacts& one : firmware->partitions) {
    Member member{one.name,    path,   one.size,
                  one.content, single, single || fs::is_directory(path, ignored)};
    if (single) {
      WEXLO_TRY(const SourcePtr source, one.content->source(context));
      member.name = partition_of_file(*source, path, firmware->layers.back().kind);
      member.size = source->size();  // a packed file tells it only when it is read
    }
    put(std::move(member));
  }
  whole_ = whole_ || !single;
  firmwares_.push_back(std::move(firmware));
  return {};
}

void PhoneSet::put(Member member) {
  if (!member.opened) member.opened = std::make_shared<Opened>();
  const auto same = std::ranges::find(members_, member.name, &Member::name);
  if (same != members_.end())
    *same = std::move(member);
  else
    members_.push_back(std::move(member));
}

/// A file of no known kind may still be a partition's: by its footer, or by what it is called.
Status PhoneSet::add_raw(const std::string& path, Error why) {
  WEXLO_TRY(const SourcePtr source, open_file(path));
  const std::string name = partition_of_file(*source, path, "");
  if (name.empty() || source->size() == 0) return fail(std::move(why));
  put({name, path, source->size(), content_of(source), true, true});
  return {};
}

Status PhoneSet::add_image(const std::string& path, const std::string& name,
                           const Context& context) {
  PhoneSet one;
  if (auto added = one.add(path, context); !added) {
    if (added.error().code != ErrorCode::BadMagic) return added;
    WEXLO_TRY(const SourcePtr source, open_file(path));
    put({name, path, source->size(), content_of(source), true});
    return {};
  }
  if (one.members_.size() != 1 || one.whole_)
    return fail({.code = ErrorCode::Usage,
                 .message = "this holds more than one image",
                 .file = path,
                 .hint = "Take them out first: wexlo extract FIRMWARE."});
  Member member = std::move(one.members_.front());
  if (!name.empty()) member.name = name;
  put(std::move(member));
  std::ranges::move(one.firmwares_, std::back_inserter(firmwares_));
  return {};
}

const PhoneSet::Member* PhoneSet::find(std::string_view name) const {
  const auto at = std::ranges::find(members_, name, &Member::name);
  return at == members_.end() ? nullptr : &*at;
}

const PhoneSet::Member* PhoneSet::find_slotted(std::string_view name,
                                               std::string_view suffix) const {
  if (const Member* one = find(std::string(name) + std::string(suffix))) return one;
  return find(name);
}

std::string PhoneSet::suffix(const std::string& slot, std::string& other) const {
  const auto has = [&](std::string_view suffix) {
    return std::ranges::any_of(members_, [&](const Member& one) {
      return one.size > 0 && slot_suffix(one.name) == suffix;
    });
  };
  if (!slot.empty()) return "_" + slot;
  if (has("_a") && has("_b")) other = "b";
  return has("_a") ? "_a" : has("_b") ? "_b" : "";
}

Result<SourcePtr> PhoneSet::source(const Member& member, const Context& context) {
  const std::lock_guard lock(member.opened->mutex);
  if (!member.opened->source) {
    WEXLO_TRY(member.opened->source, member.content->source(context));
  }
  return member.opened->source;
}

Result<Subject> read_subject(const PhoneSet& set, const PhoneSet::Member& member,
                             const std::string& suffix, const Context& context) {
  Subject out{.partition = member.name, .name = member.name};
  if (!suffix.empty() && out.partition.ends_with(suffix))
    out.partition.resize(out.partition.size() - suffix.size());
  auto source = set.source(member, context);
  if (!source) {
    if (is_of_this_run(source.error().code)) return fail(std::move(source).error());
    out.trouble = std::move(source).error();
    return out;
  }
  out.source = std::move(*source);
  if (partition_class(out.partition) == PartitionClass::Other) return out;
  if (out.source->size() > kMaxDeep || out.source->size() == 0) return out;
  auto loaded = load_image(*out.source);
  if (!loaded) {
    if (is_of_this_run(loaded.error().code)) return fail(std::move(loaded).error());
    out.trouble = std::move(loaded).error();
    return out;
  }
  if (const std::string_view due = image_kind_of(out.partition);
      !due.empty() && loaded->format->kind != due) {
    out.trouble = {.code = ErrorCode::BadMagic,
                   .message = "it is another kind of image",
                   .file = out.name,
                   .expected = std::string(due),
                   .found = std::string(loaded->format->kind)};
    return out;
  }
  out.loaded = std::move(*loaded);
  if (out.image() == nullptr) return out;
  WEXLO_TRY(out.reading, read_deep(*out.loaded, context, Digests::Left));
  const auto take = [&](const VbmetaInfo& info) {
    for (const DescriptorInfo& one : info.descriptors)
      if (one.kind == "property" && one.values.size() == 2)
        out.properties.emplace_back(one.values[0].second, one.values[1].second);
  };
  if (out.image()->kind() == "vbmeta") {
    if (const auto info = vbmeta_info(*out.image())) take(*info);
  } else if (const auto footer = footer_info(*out.source); footer && *footer) {
    // Whether its digest matches is not asked here: that reads all of the image once more.
    take((*footer)->vbmeta);
  }
  return out;
}

Result<Subjects> read_subjects(const PhoneSet& set, const std::string& suffix,
                               const Context& context) {
  Subjects out;
  for (const PhoneSet::Member& member : set.members()) {
    // The other slot's images are another phone, so to speak.
    const auto other = slot_suffix(member.name);
    if (!other.empty() && other != suffix) continue;
    const bool twin = !suffix.empty() && other.empty() && set.find(member.name + suffix);
    if (twin || member.size == 0) continue;
    const std::string_view bare = without_slot(member.name);
    if (partition_class(bare) == PartitionClass::Other && bare != "misc" && bare != "super")
      continue;
    WEXLO_CHECK(check_stop(context));
    WEXLO_TRY(Subject one, read_subject(set, member, suffix, context));
    out.all.push_back(std::move(one));
  }
  return out;
}

namespace {

/// A member that is opened when its bytes are asked for: taking a partition out of a package may
/// cost reading all of it.
class LazySource final : public Source {
 public:
  LazySource(const PhoneSet& set, const PhoneSet::Member& member, const Context& context)
      : Source(member.name), set_(set), member_(member), context_(context) {}
  std::uint64_t size() const override { return member_.size; }
  Status read_at(std::uint64_t offset, MutableView out) const override {
    WEXLO_TRY(const SourcePtr source, set_.source(member_, context_));
    return source->read_at(offset, out);
  }

 private:
  const PhoneSet& set_;
  const PhoneSet::Member& member_;
  const Context& context_;
};

}  // namespace

Result<verified::Walk> walk_set(const PhoneSet& set, verified::WalkOptions options,
                                const Context& context) {
  options.find = [&](const std::string& name) -> Result<SourcePtr> {
    const PhoneSet::Member* member = set.find(name);
    if (member == nullptr || member->size == 0) return SourcePtr();
    // A single file's size is known only when it is open: it may be packed.
    if (member->single) return set.source(*member, context);
    return SourcePtr(std::make_shared<LazySource>(set, *member, context));
  };
  return verified::walk_chain(options, context);
}

}  // namespace wexlo
