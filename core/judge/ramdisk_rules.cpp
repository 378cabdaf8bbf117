/// Rules that look into the ramdisks of one image.

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "image/boot.hpp"
#include "judge/subject.hpp"
#include "ramdisk/layout.hpp"
#include "ramdisk/textfiles.hpp"

namespace wexlo {
namespace {

using newc::Entry;

constexpr std::size_t kXzCheckAt = 7;
constexpr std::uint8_t kXzNone = 0, kXzCrc32 = 1;

class RamdiskRules {
 public:
  RamdiskRules(const Subject& one, const Subject* stock, Report& report)
      : one_(one), stock_(stock), report_(report) {}

  void run() {
    for (const ReadRamdisk& one : one_.reading.ramdisks) {
      const std::string title = one.part.title();
      if (!one.ramdisk) {
        // What this run may not hold was not looked at.
        if (one.trouble->code == ErrorCode::LimitExceeded) {
          add(FindingCode::RamdiskPacking,
              fmt::format("{} was not looked at: {}.", title, one.trouble->message),
              Level::Warning);
          report_.cannot_tell(fmt::format("{} is larger than this run may hold (--limit)", title));
          continue;
        }
        // A form that is not read here may be one that the kernel reads.
        const bool other_form = one.trouble->code == ErrorCode::Unsupported;
        add(FindingCode::RamdiskPacking,
            fmt::format("{} does not decode: {}{}.", title, one.trouble->message,
                        one.trouble->offset ? " at " + hex_value(*one.trouble->offset) : ""),
            other_form ? std::optional(Level::Warning) : std::nullopt);
        if (other_form) report_.cannot_tell(fmt::format("{} is not read here", title));
        continue;
      }
      packing(title, *one.ramdisk);
      order(title, *one.ramdisk);
      modules(title, *one.ramdisk);
      texts(title, *one.ramdisk);
    }
    fragments();
    layout();
  }

 private:
  void add(FindingCode code, std::string message, std::optional<Level> level = {}) {
    report_.add(code, one_.partition, std::move(message), one_.untouched, level);
  }

  void packing(const std::string& title, const Ramdisk& ramdisk) {
    for (std::size_t i = 0; i < ramdisk.segments.size(); ++i) {
      const RamdiskSegment& segment = ramdisk.segments[i];
      const View encoded = segment.encoded.view();
      if (segment.compression == Compression::Lz4Frame)
        add(FindingCode::RamdiskPacking,
            fmt::format("{} is an lz4 frame: kernels unpack the legacy form only.", title));
      if (segment.compression == Compression::Xz && encoded.size() > kXzCheckAt) {
        const auto check = std::to_integer<std::uint8_t>(encoded[kXzCheckAt]);
        if (check != kXzNone && check != kXzCrc32)
          add(FindingCode::RamdiskPacking,
              fmt::format("{} is xz with check {}: kernels take CRC32 (1) or none (0).", title,
                          check));
      }
      if (i == 0) continue;
      const Compression before = ramdisk.segments[i - 1].compression;
      if (before == Compression::Lz4Legacy && segment.compression != before)
        add(FindingCode::JoinedRamdisk,
            fmt::format("{}: {} data follows lz4 data, which has no end mark: a kernel reads it as "
                        "a broken block.",
                        title, compression_name(segment.compression)));
    }
  }

  void order(const std::string& title, const Ramdisk& ramdisk) {
    std::set<std::string> folders{""};
    bool first_early = true;
    for (const RamdiskSegment& segment : ramdisk.segments) {
      std::map<std::string, std::size_t> seen;
      bool trailer = false;
      for (const Entry& entry : segment.archive.entries) {
        trailer = entry.is_trailer();
        if (trailer) {
          seen.clear();
          continue;
        }
        const std::string place = newc::place_of(entry.name());
        const std::size_t slash = place.rfind('/');
        const std::string parent = slash == std::string::npos ? "" : place.substr(0, slash);
        // Fragments may count on the folders of those before them.
        const bool alone = one_.reading.ramdisks.size() == 1 && !is_joined();
        if (!folders.contains(parent) && std::exchange(first_early, false))
          add(FindingCode::ArchiveOrder,
              fmt::format("{}: /{} stands before its folder /{}{}.", title, place, parent,
                          alone ? ": a kernel drops it" : ""),
              alone ? Level::Problem : Level::Warning);
        if (entry.type() == newc::Directory || entry.type() == newc::Symlink) folders.insert(place);
        if (++seen[place] == 2 && entry.type() != newc::Directory)
          add(FindingCode::ArchiveOrder,
              fmt::format("{}: /{} is there twice: the last one counts.", title, place),
              Level::Warning);
      }
      if (!trailer)
        add(FindingCode::ArchiveOrder, fmt::format("{}: the archive has no trailer.", title),
            Level::Warning);
    }
  }

  /// Another ramdisk is unpacked before this one.
  [[nodiscard]] bool is_joined() const {
    return one_.image()->kind() == "vendor_boot" || one_.image()->layout().version >= 3;
  }

  /// The last components of all places: lists may name what another fragment holds.
  std::set<std::string> all_names() const {
    std::set<std::string> names;
    for (const ReadRamdisk& one : one_.reading.ramdisks) {
      if (!one.ramdisk) continue;
      for (const RamdiskSegment& segment : one.ramdisk->segments)
        for (const Entry& entry : segment.archive.entries)
          names.insert(entry.name().substr(entry.name().rfind('/') + 1));
    }
    return names;
  }

  void modules(const std::string& title, const Ramdisk& ramdisk) {
    const std::set<std::string> names = all_names();
    for (const RamdiskSegment& segment : ramdisk.segments)
      for (const Entry& entry : segment.archive.entries) {
        const std::string place = newc::place_of(entry.name());
        const auto name = std::string_view(place).substr(place.rfind('/') + 1);
        if (!name.starts_with("modules.load") || entry.type() != newc::Regular) continue;
        listed(title, place, as_text(entry.data().view()), names);
      }
  }

  void listed(const std::string& title, const std::string& list, std::string_view text,
              const std::set<std::string>& names) {
    std::size_t gone = 0;
    std::string first;
    for (std::string_view line : lines_of(text)) {
      line = line.substr(0, std::min(line.find_first_of(" \t\r\n#"), line.size()));
      if (line.empty()) continue;
      const std::string module(line.substr(line.rfind('/') + 1));
      if (!names.contains(module) && gone++ == 0) first = module;
    }
    if (gone != 0)
      add(FindingCode::KernelModules,
          fmt::format("{}: /{} lists {} module{} that {} not there, first {}.", title, list, gone,
                      gone == 1 ? "" : "s", gone == 1 ? "is" : "are", first));
  }

  static bool is_read_at_start(std::string_view place) {
    return is_fstab_name(std::string(place)) || place.ends_with(".rc") ||
           place.ends_with(".prop") || place.ends_with("prop.default");
  }

  /// The stock file of that place has carriage returns, too; nullopt: there is none to ask.
  [[nodiscard]] std::optional<bool> stock_has_returns(std::string_view place) const {
    if (stock_ == nullptr) return std::nullopt;
    const auto content = stock_->reading.find(place);
    if (!content) return std::nullopt;
    return as_text(content->view()).contains('\r');
  }

  /// Editors of another system put a carriage return before each line end: it becomes a part of the
  /// last word of the line.
  void texts(const std::string& title, const Ramdisk& ramdisk) {
    for (const RamdiskSegment& segment : ramdisk.segments)
      for (const Entry& entry : segment.archive.entries) {
        const std::string place = newc::place_of(entry.name());
        if (entry.type() != newc::Regular || !is_read_at_start(place) ||
            !as_text(entry.data().view()).contains('\r'))
          continue;
        const auto stock = stock_has_returns(place);
        if (stock == true) continue;
        add(FindingCode::TextForm,
            fmt::format(
                "{}: /{} has carriage returns (line ends of another system){}: the last word "
                "of each such line is read wrong.",
                title, place, stock ? ", the stock file has none" : ""),
            stock ? Level::Problem : Level::Warning);
      }
  }

  void fragments() {
    const Image& image = *one_.image();
    if (image.section("vendor_ramdisk_table") == nullptr) return;
    const std::uint64_t count = image.number("vendor_ramdisk_table_entry_num");
    const std::uint64_t step = image.number("vendor_ramdisk_table_entry_size");
    const std::uint64_t size = image.number("vendor_ramdisk_table_size");
    if (size != count * step)
      add(FindingCode::FragmentTable,
          fmt::format("The table has {} bytes, {} entries of {} make {}.", size, count, step,
                      count * step));
    std::set<std::string> names;
    bool usual = count == 0;
    for (const ReadRamdisk& one : one_.reading.ramdisks) {
      if (!one.part.in_table) continue;
      if (!names.insert(one.part.name).second)
        add(FindingCode::FragmentTable,
            fmt::format("Two fragments are called \"{}\".", one.part.name));
      usual = usual || one.part.type <= 1;
    }
    if (!usual)
      add(FindingCode::FragmentTable,
          "No fragment is of type none or platform: a normal start loads none.", Level::Warning);
  }

  void layout() {
    const auto at = std::ranges::find_if(one_.reading.ramdisks,
                                         [](const auto& one) { return one.ramdisk.has_value(); });
    if (at == one_.reading.ramdisks.end()) return;
    const RamdiskLayout layout = layout_of(
        *at->ramdisk, signs_of(*one_.image(), one_.partition, *one_.loaded->decoded, Context{}));
    if (layout == RamdiskLayout::SystemRoot)
      add(FindingCode::RamdiskUnused,
          fmt::format("Layout {}: {}.", layout_name(layout), layout_about(layout)));
  }

  const Subject& one_;
  const Subject* stock_;
  Report& report_;
};

}  // namespace

void judge_ramdisks(const Subject& one, const Subject* stock, Report& report) {
  if (one.image() != nullptr && one.image()->kind() != "vbmeta")
    RamdiskRules(one, stock, report).run();
}

}  // namespace wexlo
