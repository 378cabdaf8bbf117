/// Rules that need several images of a phone: what is joined at a start, what names what.

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "image/boot.hpp"
#include "image/kernel_release.hpp"
#include "image/words.hpp"
#include "judge/joined.hpp"
#include "judge/starts.hpp"
#include "judge/subject.hpp"
#include "ramdisk/layout.hpp"
#include "ramdisk/textfiles.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

constexpr std::size_t kMaxBootconfig = 32767, kLoaderRoom = 2048;

class SetRules {
 public:
  SetRules(const SetFacts& facts, Report& report) : facts_(facts), report_(report) {}

  void run() {
    pairs();
    const Joined joined = join_ramdisks(facts_.set);
    joint();
    if (!joined.parts.empty()) first_program(joined);
    mounts(joined);
    releases(joined);
    bootconfig();
  }

 private:
  const Subject* find(std::string_view partition) const {
    const Subject* one = facts_.set.find(partition);
    return one != nullptr && one->image() != nullptr ? one : nullptr;
  }
  void add(FindingCode code, const Subject& one, std::string message,
           std::optional<Level> level = {}) {
    report_.add(code, one.partition, std::move(message), one.untouched, level);
  }

  static bool is_new(const Subject* one) {
    return one != nullptr && one->image()->kind() == "boot" && one->image()->layout().version >= 3;
  }

  void pairs() {
    const Subject *boot = find("boot"), *vendor = find("vendor_boot"), *init = find("init_boot");
    if (vendor != nullptr && is_new(boot)) {
      const unsigned a = boot->image()->layout().version, b = vendor->image()->layout().version;
      if (a != b)
        add(FindingCode::VersionPair, *boot,
            fmt::format("boot has header version {}, vendor_boot {}: they should be the same.", a,
                        b),
            Level::Warning);
    }
    if (!facts_.whole) return;
    if (is_new(boot) && vendor == nullptr && facts_.set.find("vendor_boot") == nullptr)
      add(FindingCode::VersionPair, *boot,
          "boot of this version does not start without a vendor_boot, and there is none.");
    const bool empty =
        boot != nullptr && boot->image()->kind() == "boot" && boot->reading.ramdisks.empty();
    if (is_new(boot) && empty && init == nullptr && facts_.set.find("init_boot") == nullptr)
      add(FindingCode::VersionPair, *boot,
          "boot has no ramdisk, and there is no init_boot that has one.");
  }

  /// The image whose kernel a normal start takes; nullptr: it is not here.
  const Subject* with_kernel() const {
    for (const std::string_view name : kernel_partitions())
      if (const Subject* one = find(name)) return one;
    return nullptr;
  }

  void joint() {
    std::vector<ChainImage> chain;
    for (const std::string_view name : ramdisk_partitions(RamdiskOrder::Joined))
      if (const Subject* one = find(name))
        chain.push_back({std::string(name), one->image(), &one->reading});
    for (const StartProblem& problem : starts_of(chain).problems)
      if (problem.kind == StartTrouble::Joint)  // of the others the image that has it tells
        report_.add(FindingCode::JoinedRamdisk, "", problem.text + ".");
  }

  void first_program(const Joined& joined) {
    const Subject& last = *facts_.set.find(joined.last_partition);
    std::string place = "init";
    auto init = find_joined(joined, place);
    if (!init && joined.whole)
      return add(FindingCode::JoinedRamdisk, last, "Nothing that is joined has an /init.");
    if (!init) {
      if (joined.has_generic)
        add(FindingCode::JoinedRamdisk, last,
            "The ramdisk that starts the system has no /init, and no vendor_boot that might "
            "bring one is here.");
      return report_.cannot_tell("no /init is in what is here");
    }
    constexpr int kLinks = 8;
    for (int i = 0; i < kLinks && init->entry->type() == newc::Symlink; ++i) {
      const std::string target(as_text(init->entry->data().view()));
      const std::size_t slash = place.rfind('/');
      const std::string base = slash == std::string::npos ? "" : place.substr(0, slash + 1);
      place = newc::place_of(target.starts_with('/') ? target : base + target);
      init = find_joined(joined, place);
      if (init) continue;
      if (!joined.whole)
        return report_.cannot_tell(fmt::format("/init leads to {}, which is not here", target));
      return add(FindingCode::JoinedRamdisk, last,
                 fmt::format("/init leads to {}, which is in no ramdisk.", target));
    }
    constexpr std::uint32_t kMayRun = 0111;
    if (init->entry->type() != newc::Regular)
      add(FindingCode::JoinedRamdisk, last, fmt::format("/{} is no file.", place));
    else if ((init->entry->mode() & kMayRun) == 0)
      add(FindingCode::JoinedRamdisk, last,
          fmt::format("/{} has mode {:04o}: a kernel cannot run it.", place,
                      init->entry->mode() & 07777u));
    else
      program(last, place, content_of(*init->ramdisk, init->at));
  }

  /// What a kernel can run: a program for its processor, or a script that names one.
  void program(const Subject& last, const std::string& place, const Blob& content) {
    const std::string_view text = as_text(content.view());
    if (text.starts_with("#!")) return;
    if (!text.starts_with("\177ELF"))
      return add(FindingCode::JoinedRamdisk, last,
                 fmt::format("/{} is neither a program (ELF) nor a script: a kernel cannot run it.",
                             place));
    const Subject* boot = with_kernel();
    const std::uint32_t pages =
        boot != nullptr && boot->reading.kernel ? boot->reading.kernel->page_size : 0;
    if (std::string trouble = pages_trouble(place, content.view(), pages); !trouble.empty())
      add(FindingCode::ProgramPages, last, std::move(trouble));
    const std::string kernel =
        boot != nullptr && boot->reading.kernel ? boot->reading.kernel->architecture : "";
    const std::string machine = elf_architecture(content.view());
    const bool narrower =
        (kernel == "arm64" && machine == "arm") || (kernel == "x86_64" && machine == "x86");
    if (!kernel.empty() && !machine.empty() && machine != kernel && !narrower)
      add(FindingCode::JoinedRamdisk, last,
          fmt::format("/{} is a program for {}, the kernel runs on {}.", place, machine, kernel));
  }

  void mounts(const Joined& joined) {
    bool any = false, for_hardware = false;
    const std::vector<std::string> names = fstab_names();
    for (const Subject& one : facts_.set.all) {
      if (one.image() == nullptr) continue;
      for (const ReadRamdisk& ramdisk : one.reading.ramdisks) {
        if (!ramdisk.ramdisk) continue;
        for (const RamdiskSegment& segment : ramdisk.ramdisk->segments)
          for (const newc::Entry& entry : segment.archive.entries) {
            const std::string place = newc::place_of(entry.name());
            if (entry.type() != newc::Regular || !is_fstab_name(place)) continue;
            any = true;
            for (const std::string& name : names)
              for_hardware = for_hardware || place.ends_with("fstab." + name);
            fstab(one, place, as_text(entry.data().view()), joined);
          }
      }
    }
    if (any && !names.empty() && !for_hardware && joined.whole)
      report_.add(FindingCode::MountTable, "",
                  fmt::format("No ramdisk has a fstab.{}, which the first stage looks for.",
                              fmt::join(names, " or fstab.")),
                  false, Level::Warning);
  }

  /// Endings of the file's name that first-stage init tries, in its order.
  std::vector<std::string> fstab_names() const {
    std::vector<std::string> out;
    for (const char* key :
         {"androidboot.fstab_suffix", "androidboot.hardware", "androidboot.hardware.platform"})
      if (std::string name = boot_word(key); !name.empty()) out.push_back(std::move(name));
    return out;
  }

  /// Of a command line or of the boot configuration.
  std::string boot_word(std::string_view key) const {
    for (const Subject& one : facts_.set.all) {
      if (one.image() == nullptr) continue;
      const std::string text = boot::cmdline(*one.image()) + "\n" + boot::bootconfig(*one.image());
      for (auto at = text.find(key); at != text.npos; at = text.find(key, at + 1)) {
        std::size_t begin = at + key.size();
        begin = std::min(text.find_first_not_of(" \t", begin), text.size());
        if (begin == text.size() || text[begin] != '=') continue;
        begin = std::min(text.find_first_not_of(" \t\"", begin + 1), text.size());
        const std::size_t end = std::min(text.find_first_of(" \t\r\n\",;}", begin), text.size());
        return text.substr(begin, end - begin);
      }
    }
    return {};
  }

  void fstab(const Subject& one, const std::string& place, std::string_view text,
             const Joined& joined) {
    std::size_t number = 0;
    for (const std::string_view line : lines_of(text)) {
      ++number;
      std::vector<std::string> columns;
      for (const std::string_view word : split_words(line))
        columns.emplace_back(word);
      if (columns.empty() || columns.front().starts_with('#')) continue;
      const auto at = fmt::format("/{} line {}", place, number);
      if (columns.size() < 5) {
        add(FindingCode::MountTable, one,
            fmt::format("{}: {} columns where five belong.", at, columns.size()));
        continue;
      }
      for (const std::size_t list : {3u, 4u})
        if (columns[list].starts_with(',') || columns[list].ends_with(',') ||
            columns[list].contains(",,"))
          add(FindingCode::MountTable, one,
              fmt::format("{}: an empty word in the list \"{}\".", at, columns[list]));
      flags(one, at, columns[4], joined);
    }
  }

  void flags(const Subject& one, const std::string& at, std::string_view list,
             const Joined& joined) {
    while (!list.empty()) {
      const std::size_t end = std::min(list.find(','), list.size());
      const std::string_view word = list.substr(0, end);
      list.remove_prefix(std::min(end + 1, list.size()));
      if (word.starts_with("avb=")) {
        const std::string name(word.substr(4));
        if (!covers(name))
          add(FindingCode::MountTable, one,
              fmt::format("{} needs {} for verification, and vbmeta chains no such partition.", at,
                          name));
      }
      if (word.starts_with("avb_keys=")) keys(one, at, word.substr(9), joined);
    }
  }

  bool covers(const std::string& name) const {
    if (facts_.walk.structs.empty() || facts_.walk.verification_disabled || name == "vbmeta")
      return true;
    if (facts_.set.find(name) != nullptr) return true;
    return std::ranges::any_of(facts_.walk.structs,
                               [&](const auto& one) { return one.partition == name; });
  }

  void keys(const Subject& one, const std::string& at, std::string_view list,
            const Joined& joined) {
    if (!joined.whole) return;
    std::vector<std::string> gone;
    bool any = false;
    while (!list.empty()) {
      const std::size_t end = std::min(list.find(':'), list.size());
      const std::string place = newc::place_of(list.substr(0, end));
      list.remove_prefix(std::min(end + 1, list.size()));
      const bool there = find_joined(joined, place).has_value() ||
                         find_joined(joined, "first_stage_ramdisk/" + place).has_value();
      any = any || there;
      if (!there) gone.push_back(place);
    }
    // One of several keys is enough: the others are for system images of other makers.
    if (!gone.empty())
      add(FindingCode::MountTable, one,
          fmt::format("{}: the key file /{} is in no ramdisk.", at, gone.front()),
          any ? Level::Note : Level::Problem);
  }

  /// Modules against the kernel they load into.
  void releases(const Joined& joined) {
    const Subject* boot = with_kernel();
    if (boot == nullptr || !boot->reading.kernel || boot->reading.kernel->release.empty()) return;
    const std::string& release = boot->reading.kernel->release;
    std::size_t others = 0;
    std::string first;
    for (const Ramdisk* ramdisk : joined.parts)
      for (const RamdiskSegment& segment : ramdisk->segments)
        for (const newc::Entry& entry : segment.archive.entries) {
          if (!entry.name().ends_with(".ko")) continue;
          const std::string magic = kernel::module_release(entry.data().view());
          if (!magic.empty() &&
              kernel::module_interface(magic) != kernel::module_interface(release) && others++ == 0)
            first = fmt::format("{} is for {}", entry.name(), magic);
        }
    if (others != 0)
      report_.add(
          FindingCode::KernelModules, "",
          fmt::format("{} modules are for another kernel than {}: {}.", others, release, first),
          boot->untouched);
  }

  void bootconfig() {
    const Subject* vendor = find("vendor_boot");
    if (vendor == nullptr) return;
    const std::string text = boot::bootconfig(*vendor->image());
    if (text.empty()) return;
    if (const std::string trouble = bootconfig_trouble(text); !trouble.empty())
      add(FindingCode::Bootconfig, *vendor,
          fmt::format("A kernel drops the whole bootconfig: {}.", trouble));
    else if (text.size() > kMaxBootconfig - kLoaderRoom)
      add(FindingCode::Bootconfig, *vendor,
          fmt::format("{} bytes leave the loader little room for what it adds: {} is the limit.",
                      text.size(), kMaxBootconfig),
          Level::Warning);
    std::string cmdline = boot::cmdline(*vendor->image());
    if (const Subject* boot = find("boot")) cmdline += " " + boot::cmdline(*boot->image());
    const auto words = words::split(cmdline);
    if (std::ranges::find(words, "bootconfig") == words.end())
      add(FindingCode::Bootconfig, *vendor,
          "The command line has no word bootconfig: the kernel reads it only if the loader adds "
          "the word.",
          Level::Note);
  }

  const SetFacts& facts_;
  Report& report_;
};

}  // namespace

void judge_set(const SetFacts& facts, Report& report) {
  SetRules(facts, report).run();
}

}  // namespace wexlo
