#include "judge/origin.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <set>

#include "ramdisk/permissive.hpp"
#include "ramdisk/textfiles.hpp"
#include "recipe/journal.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

using newc::Entry;
using newc::Field;

/// The first path component.
std::string_view root_of(std::string_view place) {
  return place.substr(0, std::min(place.find('/'), place.size()));
}
std::string_view last_of(std::string_view place) {
  return place.substr(place.rfind('/') + 1);
}

/// Gathers the signs of one image.
class Judge {
 public:
  Judge(const Image& image, const ImageReading& reading, const fs::path& file)
      : image_(image), reading_(reading), file_(file) {}

  std::vector<Sign> run() {
    for (const ReadRamdisk& one : reading_.ramdisks) {
      if (!one.ramdisk) continue;
      second_init(*one.ramdisk);
      pattern(*one.ramdisk);
      folders(*one.ramdisk);
      flags(*one.ramdisk);
      recovery(*one.ramdisk);
    }
    if (reading_.kernel && !reading_.kernel->ramdisk_word.empty())
      sign(SignKind::RamdiskWord,
           fmt::format("the kernel has the word {} where one for skipping the ramdisk stands",
                       reading_.kernel->ramdisk_word));
    return std::move(signs_);
  }

 private:
  void sign(SignKind kind, std::string text) { signs_.push_back({kind, std::move(text)}); }

  template <class Visit>
  static void each(const Ramdisk& ramdisk, Visit visit) {
    for (std::size_t s = 0; s < ramdisk.segments.size(); ++s) {
      const auto& entries = ramdisk.segments[s].archive.entries;
      for (std::size_t i = 0; i < entries.size(); ++i)
        if (!entries[i].is_trailer()) visit(entries[i], newc::place_of(entries[i].name()));
    }
  }

  /// A program (or a link to one) called as the first program is, where no stock ramdisk has one.
  void second_init(const Ramdisk& ramdisk) {
    constexpr std::array kUsual{std::string_view("init"), std::string_view("system/bin/init"),
                                std::string_view("first_stage_ramdisk/init"),
                                std::string_view("first_stage_ramdisk/system/bin/init")};
    each(ramdisk, [&](const Entry& entry, const std::string& place) {
      const auto name = last_of(place);
      const bool called = name == "init" || name.starts_with("init.") || name.starts_with("init_");
      const auto data = as_text(entry.data().view());
      const bool program =
          entry.type() == newc::Regular && (data.starts_with("\x7f"
                                                             "ELF") ||
                                            detect_compression(entry.data().view()));
      const bool link = entry.type() == newc::Symlink && name == "init" && place != "init";
      if (called && (program || link) && std::ranges::find(kUsual, place) == kUsual.end())
        sign(SignKind::SecondInit, fmt::format("a second init is kept at /{}", place));
    });
  }

  /// Times and owners: nearly all entries of a stock archive have the same, or follow a system.
  void pattern(const Ramdisk& ramdisk) {
    std::map<std::uint32_t, std::size_t> times, owners;
    std::size_t count = 0;
    each(ramdisk, [&](const Entry& entry, const std::string&) {
      ++times[entry.get(Field::Mtime)];
      ++owners[entry.get(Field::Uid)];
      ++count;
    });
    constexpr std::size_t kFewest = 8;  // below, there is no pattern to speak of
    if (count < kFewest) return;
    const auto usual = [](const auto& counts) {
      return *std::ranges::max_element(counts, {}, [](const auto& item) { return item.second; });
    };
    const auto [time, same_time] = usual(times);
    const auto [owner, same_owner] = usual(owners);
    std::string first_time, first_owner;
    std::size_t odd_times = 0, odd_owners = 0;
    // Host accounts begin at 1000, where the system's own begin too: those have names of their own.
    constexpr std::uint32_t kLastSystem = 9999;
    each(ramdisk, [&, time = time, owner = owner](const Entry& entry, const std::string& place) {
      if (entry.get(Field::Mtime) != time && odd_times++ == 0) first_time = place;
      const std::uint32_t uid = entry.get(Field::Uid);
      if (uid != owner && uid > kLastSystem && odd_owners++ == 0) first_owner = place;
    });
    // A few among many: where times are as mixed as files are, they say nothing.
    const bool few = odd_times != 0 && same_time * 10 >= count * 8;
    if (few)
      sign(SignKind::Pattern,
           fmt::format("{} of {} entries have another time than the rest, first /{}", odd_times,
                       count, first_time));
    if (odd_owners != 0 && same_owner * 10 >= count * 8)
      sign(SignKind::Pattern,
           fmt::format("{} of {} entries have an owner no system file has, first /{}", odd_owners,
                       count, first_owner));
  }

  /// Root folders. A generic ramdisk is the same on every phone; others have makers' folders, but
  /// never a hidden one.
  void folders(const Ramdisk& ramdisk) {
    static const std::set<std::string_view> kGeneric{"acct",
                                                     "apex",
                                                     "avb",
                                                     "bin",
                                                     "bugreports",
                                                     "config",
                                                     "d",
                                                     "data",
                                                     "data_mirror",
                                                     "debug_ramdisk",
                                                     "dev",
                                                     "etc",
                                                     "first_stage_ramdisk",
                                                     "init",
                                                     "lib",
                                                     "lib64",
                                                     "linkerconfig",
                                                     "metadata",
                                                     "mnt",
                                                     "odm",
                                                     "odm_dlkm",
                                                     "oem",
                                                     "postinstall",
                                                     "proc",
                                                     "product",
                                                     "res",
                                                     "root",
                                                     "sbin",
                                                     "sdcard",
                                                     "second_stage_resources",
                                                     "storage",
                                                     "sys",
                                                     "system",
                                                     "system_dlkm",
                                                     "system_ext",
                                                     "tmp",
                                                     "vendor",
                                                     "vendor_dlkm",
                                                     "wexlo"};
    const bool generic = image_.kind() == "boot" && image_.layout().version >= 3;
    std::set<std::string> odd;
    each(ramdisk, [&](const Entry& entry, const std::string& place) {
      const std::string root(root_of(place));
      const bool folder = place != root || entry.type() == newc::Directory;
      const bool hidden = root.starts_with('.') && root.size() > 1;
      if (folder && !root.empty() && (hidden || (generic && !kGeneric.contains(root))))
        odd.insert(root);
    });
    for (const std::string& root : odd)
      sign(SignKind::Folders,
           fmt::format("no stock ramdisk of this layout has a folder /{}", root));
  }

  /// Mount points whose siblings are verified, and that are not.
  void flags(const Ramdisk& ramdisk) {
    const auto expected = verified_partitions();
    each(ramdisk, [&](const Entry& entry, const std::string& place) {
      if (entry.type() != newc::Regular || !is_fstab_name(place)) return;
      const auto rows = fstab_rows(as_text(entry.data().view()));
      const bool any = std::ranges::any_of(rows, &FstabRow::verified);
      for (const FstabRow& row : rows) {
        if (row.verified || !row.first_stage) continue;
        const std::string name = row.mount_point.starts_with('/') ? row.mount_point.substr(1) : "";
        const bool chained = expected.contains(name == "" ? "system" : name);
        const bool sibling = any && name == "system";
        if (chained || sibling)
          sign(
              SignKind::Flags,
              fmt::format("/{} mounts {} without verification, where {} it", place, row.mount_point,
                          chained ? "vbmeta beside the image expects" : "its siblings have"));
      }
    });
  }

  /// Partitions with a hash tree in a vbmeta image that stands beside this one.
  std::set<std::string> verified_partitions() const {
    std::set<std::string> names;
    if (file_.empty()) return names;
    for (const char* sibling : {"vbmeta.img", "vbmeta_system.img", "vbmeta_vendor.img"}) {
      const auto source = open_file(file_.parent_path() / sibling);
      if (!source || (*source)->size() > (1u << 20)) continue;
      const auto bytes = read_all(**source, 1u << 20);
      const auto vbmeta =
          bytes ? verified::parse_vbmeta(*bytes) : Result<Image>(fail({.code = ErrorCode::Io}));
      const auto all =
          vbmeta ? verified::descriptors(*vbmeta) : Result<std::vector<verified::Descriptor>>{};
      if (!all) continue;
      for (const auto& one : *all)
        if (const auto* tree = std::get_if<verified::HashtreeDescriptor>(&one.value))
          names.insert(tree->partition);
    }
    return names;
  }

  /// A recovery that says of itself that no maker signed it for users.
  void recovery(const Ramdisk& ramdisk) {
    if (!find_entry(ramdisk, "sbin/recovery") && !find_entry(ramdisk, "system/bin/recovery"))
      return;
    each(ramdisk, [&](const Entry& entry, const std::string& place) {
      if (entry.type() != newc::Regular || !is_property_name(place)) return;
      const auto text = as_text(entry.data().view());
      for (const std::string_view word : {"ro.build.type=eng", "ro.build.type=userdebug",
                                          "ro.build.tags=test-keys", "ro.build.tags=dev-keys"})
        if (has_line(text, word))
          sign(SignKind::Recovery,
               fmt::format("the recovery in it is no maker's: /{} has {}", place, word));
    });
  }

  static bool has_line(std::string_view text, std::string_view line) {
    for (auto at = text.find(line); at != text.npos; at = text.find(line, at + 1)) {
      const bool begins = at == 0 || text[at - 1] == '\n';
      const auto end = at + line.size();
      if (begins && (end == text.size() || text[end] == '\n' || text[end] == '\r')) return true;
    }
    return false;
  }

  const Image& image_;
  const ImageReading& reading_;
  const fs::path& file_;
  std::vector<Sign> signs_;
};

std::optional<Journal> journal_of(const ImageReading& reading, std::string& trouble) {
  for (const ReadRamdisk& one : reading.ramdisks) {
    if (!one.ramdisk) continue;
    auto journal = read_journal(*one.ramdisk);
    if (!journal) trouble = journal.error().message;
    if (journal && *journal) return std::move(*journal);
  }
  return std::nullopt;
}

}  // namespace

std::string_view origin_word(OriginWord word) {
  constexpr std::array<std::string_view, 4> words{"unknown", "pristine", "journaled", "altered"};
  return words[static_cast<std::size_t>(word)];
}

std::string_view sign_name(SignKind kind) {
  constexpr std::array<std::string_view, 7> kNames{
      "digest", "second-init", "pattern", "folders", "flags", "recovery", "ramdisk-word"};
  return kNames[static_cast<std::size_t>(kind)];
}

Origin judge_origin(const Image& image, const ImageReading& reading,
                    const std::vector<OwnDigest>& digests, const fs::path& file) {
  Origin out;
  for (const OwnDigest& digest : digests)
    if (!digest.matches)
      out.signs.push_back({SignKind::Digest, digest.what + " does not match its content"});
  std::string trouble;
  if (const auto journal = journal_of(reading, trouble)) {
    out.word = OriginWord::Journaled;
    out.reason = fmt::format("patched by Wexlo; the stock image was {} bytes with SHA-256 {}",
                             journal->stock_size, journal->stock_sha256);
    return out;
  }
  for (Sign& one : Judge(image, reading, file).run())
    out.signs.push_back(std::move(one));
  std::set<SignKind> kinds;
  for (const Sign& one : out.signs)
    kinds.insert(one.kind);
  const bool any_true = std::ranges::any_of(digests, &OwnDigest::matches);
  // A maker may have an odd folder, or times as mixed as these: where a digest over all of it is
  // true, such signs need a stronger one beside them.
  const bool strong = kinds.contains(SignKind::Digest) || kinds.contains(SignKind::SecondInit) ||
                      kinds.contains(SignKind::Recovery) || kinds.contains(SignKind::Flags) ||
                      kinds.contains(SignKind::RamdiskWord);
  if (kinds.size() >= 2 && (strong || !any_true)) {
    out.word = OriginWord::Altered;
    out.reason = fmt::format("{} independent signs of another tool", kinds.size());
  } else if (any_true && !strong) {
    out.word = OriginWord::Pristine;
    const auto at = std::ranges::find_if(digests, &OwnDigest::matches);
    out.reason = at->what + " matches";
  } else if (kinds.size() == 1) {
    out.word = OriginWord::Unknown;
    out.reason = out.signs.front().text + "; one sign alone does not settle it";
  } else if (!trouble.empty()) {
    out.word = OriginWord::Unknown;
    out.reason = trouble;
  } else {
    out.word = OriginWord::Unknown;
    out.reason = "it carries no digest of its own";
  }
  return out;
}

}  // namespace wexlo
