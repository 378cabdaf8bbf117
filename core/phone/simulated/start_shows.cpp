#include "phone/simulated/start_shows.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/contains.hpp"
#include "firmware/system_properties.hpp"
#include "image/boot.hpp"
#include "image/partitions.hpp"
#include "ramdisk/mount_tables.hpp"
#include "recipe/journal.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

class Shows {
 public:
  Shows(SimulatedPhone& phone, const StartLook& look, const PoweredOn& started,
        std::optional<Symptom> forced)
      : phone_(phone), look_(look), started_(started), forced_(forced) {}

  std::vector<std::string> run(StartStage stage) {
    if (stage == StartStage::Loader) {
      loader();
      return std::move(out_);
    }
    kernel();
    if (stage == StartStage::Kernel) {
      trouble();
      return std::move(out_);
    }
    if (look_.addon == AddonSeen::Seen && forced_ != Symptom::NoRoot)
      for (const std::string& text : addon_texts())
        line(text);
    line(fmt::format("audit: type=1404 audit(0.0:1): enforcing={} old_enforcing=0",
                     permissive() ? 0 : 1));
    system();
    return std::move(out_);
  }

 private:
  /// A line of the kernel's log.
  void line(const std::string& text) {
    out_.push_back(fmt::format("[{:5}.{:06}] {}", time_ / 1'000'000, time_ % 1'000'000, text));
    time_ += 104'729;
  }
  void property(const std::string& name, const std::string& value) {
    if (value.empty()) return;
    if (const auto at = std::ranges::find(properties_, name, &Pair::first); at != properties_.end())
      at->second = value;
    else
      properties_.emplace_back(name, value);
  }

  /// A phone that stays at its bootloader answers there.
  void loader() {
    for (const auto& [name, value] : phone_.variables())
      out_.push_back(fmt::format("(bootloader) {}:{}", name, value));
  }

  [[nodiscard]] std::string command_line() const {
    std::string out;
    for (const char* name : {"vendor_boot", "boot", "kernel"})
      if (const Subject* one = look_.set.find(name); one != nullptr && one->image() != nullptr)
        if (const std::string words = boot::cmdline(*one->image()); !words.empty())
          out += words + " ";
    if (const Subject* one = look_.set.find("vendor_boot"); one != nullptr && one->image()) {
      const std::string settings = boot::bootconfig(*one->image());
      for (const std::string_view row : lines_of(settings)) {
        const std::size_t equals = row.find('=');
        if (equals == row.npos) continue;
        const auto name = split_words(row.substr(0, equals)),
                   value = split_words(row.substr(equals + 1));
        if (name.size() == 1 && value.size() == 1) out += fmt::format("{}={} ", name[0], value[0]);
      }
    }
    out += fmt::format(
        "androidboot.serialno={} androidboot.verifiedbootstate={} "
        "androidboot.vbmeta.device_state={}",
        phone_.state.serial, verified_state(), phone_.state.locked ? "locked" : "unlocked");
    if (!started_.slot.empty()) out += " androidboot.slot_suffix=_" + started_.slot;
    return out;
  }

  [[nodiscard]] std::string verified_state() const {
    if (!phone_.state.locked) return "orange";
    return phone_.state.owner_key.empty() ? "green" : "yellow";
  }

  void kernel() {
    for (const char* name : {"boot", "kernel"})
      if (const Subject* one = look_.set.find(name);
          one != nullptr && one->reading.kernel && !one->reading.kernel->banner.empty())
        line(std::string(one->reading.kernel->banner));
    line("Kernel command line: " + command_line());
  }

  /// What a kernel or its first program says before it gives up.
  void trouble() {
    const auto panic = [&](const std::string& text) {
      line("Kernel panic - not syncing: " + text);
    };
    switch (started_.cause) {
      case StartCause::RamdiskFormat:
      case StartCause::RamdiskJoint:
        line("Initramfs unpacking failed: invalid magic at start of compressed archive");
        return panic("VFS: Unable to mount root fs on unknown-block(0,0)");
      case StartCause::NoFirstProgram:
        line("Failed to execute /init (error -2)");
        return panic("No working init found.");
      case StartCause::FirstProgram:
        line(fmt::format("Failed to execute /init (error {})", may_run() ? -8 : -13));
        return panic("No working init found.");
      case StartCause::MountTable:
        line("init: Failed to read default fstab for first stage mount");
        line("init: Failed to mount required partitions early ...");
        return panic("Attempted to kill init! exitcode=0x00007f00");
      default: break;
    }
    if (forced_ != Symptom::BlackScreen) panic("Attempted to kill init! exitcode=0x0000000b");
  }

  [[nodiscard]] bool may_run() const {
    const auto init = find_joined(look_.joined, "init");
    constexpr std::uint32_t kMayRun = 0111;
    return !init || (init->entry->mode() & kMayRun) != 0;
  }

  [[nodiscard]] std::vector<std::string> addon_texts() const {
    std::vector<std::string> out;
    for (const Ramdisk* one : look_.joined.parts) {
      const auto journal = read_journal(*one);
      if (!journal || !*journal) continue;
      for (const std::string& text : (*journal)->shows)
        if (!contains(out, text)) out.push_back(text);
    }
    return out;
  }

  [[nodiscard]] bool permissive() const {
    return std::ranges::any_of(look_.set.all, [](const Subject& one) {
      return one.image() != nullptr && !permissive_in(*one.image(), one.reading).empty();
    });
  }

  void system() {
    read_files();
    fill_in();
    for (const auto& [name, value] : properties_)
      out_.push_back(fmt::format("[{}]: [{}]", name, value));
    const bool fresh = phone_.state.data.wiped;
    failing();
    if (!is_up()) return;
    out_.push_back(fmt::format("user_setup_complete={}", fresh ? 0 : 1));
    out_.push_back(
        fmt::format("ota_disable_automatic_update={}", phone_.state.updates_off ? 1 : 0));
    if (look_.addon == AddonSeen::Seen && forced_ != Symptom::NoRoot)
      out_.emplace_back("uid=0(root) gid=0(root) groups=0(root)");
  }

  /// What a system says that comes so far and no further.
  void failing() {
    if (phone_.state.data.unreadable || forced_ == Symptom::AsksToErase) {
      line("vold: fscrypt_init_user0 failed: INVALID_KEY_BLOB");
      line("init: Rebooting into recovery, reason: prompt_and_wipe_data");
    }
    if (forced_ == Symptom::PartsDead)
      line("touch: disagrees about version of symbol module_layout");
    if (forced_ == Symptom::LoopsLater || started_.cause == StartCause::UpdateHalfDone)
      line("init: Service 'zygote' exited 4 times before boot completed");
  }

  [[nodiscard]] bool is_up() const {
    return started_.starts() || started_.verdict == StartVerdict::OtherSlot;
  }

  /// The property files of what was joined, as its init reads them.
  void read_files() {
    for (const char* place : {"default.prop", "prop.default", "system/etc/ramdisk/build.prop"}) {
      const auto found = find_joined(look_.joined, place);
      if (!found) continue;
      const Blob text = content_of(*found->ramdisk, found->at);
      for (const std::string_view row : lines_of(as_text(text.view()))) {
        const std::size_t equals = row.find('=');
        if (equals == row.npos || row.starts_with('#')) continue;
        const std::size_t end = row.find_last_not_of(" \r\n") + 1;
        property(std::string(row.substr(0, equals)),
                 std::string(row.substr(equals + 1, end - equals - 1)));
      }
    }
  }

  /// A system that was written says its own build, whatever the images that start it say.
  void of_system() {
    const std::string name = phone_.full_name("system");
    if (name.empty() || !phone_.state.written.contains(name)) return;
    const auto content = phone_.content(name);
    if (!content) return;
    const auto system = scan_system(**content, phone_.context());
    if (!system) return;
    property("ro.build.fingerprint", system->build.fingerprint);
    property("ro.build.version.security_patch", system->build.patch_level);
  }

  [[nodiscard]] std::string of_footers(std::string_view what) const {
    for (const Subject& one : look_.set.all)
      if (std::string value = one.build_property(what); !value.empty()) return value;
    return {};
  }

  [[nodiscard]] bool has(const std::string& name) const {
    return contains(properties_, name, &Pair::first);
  }

  void fill_in() {
    const PhoneState& state = phone_.state;
    of_system();
    if (!has("ro.build.fingerprint")) property("ro.build.fingerprint", of_footers("fingerprint"));
    if (!has("ro.product.device")) property("ro.product.device", state.product);
    if (!has("ro.build.version.security_patch")) {
      std::string level = of_footers("security_patch");
      property("ro.build.version.security_patch",
               level.empty() ? patch_level_of(look_.set, false) : level);
    }
    property("ro.serialno", state.serial);
    property("ro.boot.verifiedbootstate", verified_state());
    property("ro.boot.vbmeta.device_state", state.locked ? "locked" : "unlocked");
    if (!started_.slot.empty()) property("ro.boot.slot_suffix", "_" + started_.slot);
    property("ro.crypto.state", encrypted() ? "encrypted" : "unencrypted");
    if (is_up()) property("sys.boot_completed", "1");
    if (forced_ == Symptom::RecoveryInstead) property("ro.bootmode", "recovery");
  }

  /// As the mount table of the user's data wants it; where none is here the system's own does.
  [[nodiscard]] bool encrypted() const {
    std::optional<bool> out;
    for (const Ramdisk* one : look_.joined.parts)
      for (const FstabRow& row : mount_rows(*one))
        if (row.mount_point == "/data") out = row.encrypted;
    return out.value_or(true);
  }

  using Pair = std::pair<std::string, std::string>;
  SimulatedPhone& phone_;
  const StartLook& look_;
  const PoweredOn& started_;
  std::optional<Symptom> forced_;
  std::vector<std::string> out_;
  std::vector<Pair> properties_;
  std::uint64_t time_ = 0;  ///< microseconds since the kernel began
};

}  // namespace

namespace {

StartStage stage_of(Symptom told) {
  switch (told) {
    case Symptom::StaysInBootloader: return StartStage::Loader;
    case Symptom::LoopsAtOnce:
    case Symptom::BlackScreen: return StartStage::Kernel;
    default: return StartStage::System;
  }
}

bool comes_up(Symptom told) {
  return told == Symptom::WarnsAndStarts || told == Symptom::PartsDead || told == Symptom::NoRoot;
}

}  // namespace

StartStage fail_as(Symptom told, PoweredOn& started) {
  const StartStage stage = stage_of(told);
  started.symptom = told;
  started.cause = StartCause::AsTold;
  started.reason = symptom_about(told);
  started.verdict = comes_up(told) ? StartVerdict::StartsWithWarning : StartVerdict::Stops;
  if (told == Symptom::NoRoot && started.addon == AddonSeen::Seen)
    started.addon = AddonSeen::NotSeen;
  // What it did not come to is not in its log.
  if (!comes_up(told))
    std::erase_if(started.log, [&](const std::string& line) {
      return line.starts_with("system: ") ||
             (stage == StartStage::Loader && line.starts_with("kernel: "));
    });
  started.log.push_back(fmt::format("told to fail: {}", started.reason));
  return stage;
}

std::string saved_text(const PoweredOn& started) {
  std::string out;
  for (const auto* list : {&started.log, &started.shows})
    for (const std::string& line : *list)
      out += line + "\n";
  return out;
}

std::vector<std::string> what_it_shows(SimulatedPhone& phone, const StartLook& look,
                                       const PoweredOn& started, StartStage stage,
                                       const std::optional<Symptom>& forced) {
  return Shows(phone, look, started, forced).run(stage);
}

}  // namespace wexlo
