/// Steps that no wire performs: packages, programs, persons, and the first start.

#include <fmt/format.h>

#include <algorithm>

#include "kit/plan/steps.hpp"
#include "text/text.hpp"

namespace wexlo::steps {
namespace {

constexpr unsigned kInstall = 600, kHandOver = 300;

std::vector<std::string> program_settings() {
  return {"automatic restart off", "no new partition table", "nothing else chosen"};
}

}  // namespace

Step which_phone(const PlanFacts& facts) {
  const std::string& model = facts.model;
  const std::string wanted = model.empty() ? facts.device : model;
  return {.id = "which-phone",
          .act = act::ByHand{.task = Task::Identify},
          .about = fmt::format("Make sure that this is the phone that the images are for{}: its "
                               "settings, its label and the screen of its {} tell. Images of "
                               "another phone may leave it without anything that starts.",
                               wanted.empty() ? "" : fmt::format(" ({})", wanted),
                               facts.way == Way::Download ? "download mode" : "bootloader"),
          .before = "the phone is on the bench",
          .success = wanted.empty() ? "it is the phone that the firmware was taken for"
                                    : fmt::format("it says {}", wanted),
          .usual_seconds = 60};
}

Step start_online(const PlanFacts& facts) {
  Step step{.id = "start-online",
            .act = act::ByHand{.task = Task::StartOnline},
            .about =
                "Starts the system once, takes it online, and looks at the switch for "
                "unlocking in the developer settings. As long as the phone has not been "
                "online since it was unlocked, its guard takes official images only. Done "
                "before, it need not be done again.",
            .before = "the bootloader is unlocked",
            .success = "the switch is there, greyed, and shows unlocked",
            .screen = "the developer settings",
            .usual_seconds = 300};
  if (const auto note = facts.access.find("unlock"); note != facts.access.end())
    step.notes = {note->second};
  return step;
}

Step first_reset() {
  return {.id = "first-reset",
          .act = act::ByHand{.task = Task::Wipe},
          .about =
              "Sets the phone back to its factory state, in recovery's menu: the first start "
              "with a vbmeta of other flags cannot read the data that is there. A phone that "
              "has run with such a vbmeta before needs it no more.",
          .before = "the owner has agreed and has a copy of what matters",
          .success = "recovery says that the data was erased",
          .screen = "recovery's menu",
          .risk = {.data_loss = true, .final = true},
          .usual_seconds = 120};
}

Step install(const PlanFacts& facts) {
  const PlanInstall& what = *facts.install;
  return {.id = "install",
          .act = act::Install{what.file},
          .about = fmt::format(
              "Installs the system package {} from recovery: from a card, or sent from the PC "
              "(sideload).{} Nothing is started in between.",
              what.file.file,
              what.other_slot ? " It lands on the slot that the phone does not start from, and "
                                "the phone starts from that one next: later steps are for it."
                              : ""),
          .before = "recovery runs and accepts the package",
          .success = "recovery says that the package was installed",
          .screen = "recovery's progress, then its menu again",
          .undo = what.other_slot ? "slot-back" : "whole-package",
          .risk = {.data_loss = what.wipes},
          .usual_seconds = kInstall};
}

Step install_update(const PlanFacts& facts) {
  return {.id = "update",
          .act = act::Install{{facts.update->package}},
          .about = fmt::format(
              "Installs the whole stock package {} from recovery (sideload). The data stays. {}",
              facts.update->package,
              facts.slotted ? "It lands on the other slot, and the phone starts from that one "
                              "next: do not restart into it yet."
                            : "Do not restart yet."),
          .before = "recovery runs; a changed system does not hinder a full package",
          .success = "recovery says that the package was installed",
          .screen = "recovery's progress, then its menu again",
          .usual_seconds = kInstall};
}

Step write_package(const PlanFacts& facts) {
  return {.id = "update",
          .act = act::HandOver{.file = {facts.update->package},
                               .field = "the whole package",
                               .settings = {"no wipe of the user's data", "automatic restart off"}},
          .about = fmt::format("Writes the whole stock package {} with the maker's own program or "
                               "script, with whatever wipes the phone switched off.",
                               facts.update->package),
          .before = "the phone is in its bootloader and connected",
          .success = "the program says that all of it was written",
          .usual_seconds = kInstall};
}

Step whole_package_back(const PlanFacts& facts) {
  if (facts.way == Way::Download && !facts.install)
    return {.id = "back-package",
            .act = act::HandOver{.field = "the whole package, its wiping part among it",
                                 .settings = program_settings()},
            .about = fmt::format(
                "Hands the whole stock package, from {}, to the program for download mode, with "
                "the part that wipes the user's data. The kit's small package of stock images must "
                "not be used alone for it: it leaves a phone that does not start.",
                facts.contents_source),
            .before = "the phone is in download mode and the program sees it",
            .success = "the program says that all of it was written",
            .risk = {.data_loss = true},
            .usual_seconds = kInstall};
  return {.id = "whole-package",
          .act = act::HandOver{.field = "the whole package", .settings = {"automatic restart off"}},
          .about = fmt::format("Writes the whole stock package again, from {}: the system package "
                               "that was installed leaves nothing to go back to.",
                               facts.contents_source),
          .before = "the phone is connected",
          .success = "the program says that all of it was written",
          .risk = {.data_loss = true},
          .usual_seconds = kInstall};
}

Step hand_over_package(const PlanFacts& facts) {
  const PlanUpdate& update = *facts.update;
  std::string parts;
  if (!update.keeping_part.empty())
    parts = fmt::format(
        " Of its two parts for user settings take {}, which keeps the data{}.", update.keeping_part,
        update.wiping_part.empty() ? "" : fmt::format(", not {}, which wipes", update.wiping_part));
  return {.id = "update",
          .act = act::HandOver{.file = {update.package},
                               .field = "each part in the field of its name",
                               .settings = program_settings()},
          .about = fmt::format("Hands the whole stock package {} to the program for download "
                               "mode.{} The phone must not start in between.",
                               update.package, parts),
          .before = "the phone is in download mode and the program sees it",
          .success =
              "the program says that all of it was written; the phone stays in download "
              "mode",
          .usual_seconds = kInstall};
}

Step hand_over_tar(const PlanFacts& facts, const KitFile& tar, TarUse which) {
  const bool back = which == TarUse::Stock;
  const std::string_view id = back                     ? "back-package"
                              : which == TarUse::First ? "first-package"
                                                       : "package";
  const std::string_view what = back || facts.restore    ? "the stock images"
                                : which == TarUse::First ? "what the installation needs"
                                                         : "the kit's images";
  return {
      .id = std::string(id),
      .act = act::HandOver{.file = tar,
                           .field = facts.tar_field.empty()
                                        ? "the field for the system part"
                                        : fmt::format("the field of the stock package's {}",
                                                      facts.tar_field),
                           .settings = program_settings()},
      .about = fmt::format("Hands {} with {} to the program for download mode.", tar.file, what),
      .before = "the phone is in download mode and the program sees it",
      .success = "the program says that it was written, and its digest was right",
      .screen = "download mode's screen with a bar; the phone does not restart by itself",
      .undo = back ? "" : "back-package",
      .usual_seconds = kHandOver};
}

Step wipe(const PlanFacts& facts, bool back) {
  const bool by_hand = facts.way == Way::Download;
  std::string about = back ? "Erases the user's data: another system's cannot be read."
                           : "Erases the user's data, as was asked for.";
  if (by_hand)
    about += " In recovery's menu, the entry that sets the phone back to its factory state.";
  return {.id = "wipe",
          .act = by_hand ? Act(act::ByHand{.task = Task::Wipe}) : Act(act::Wipe{}),
          .about = std::move(about),
          .before = "the owner has agreed and has a copy of what matters",
          .success = by_hand ? "recovery says that the data was erased"
                             : "the phone answers that the erase is done",
          .screen = by_hand ? "recovery's menu" : "",
          .risk = {.data_loss = true, .final = true},
          .usual_seconds = by_hand ? 120u : 30u};
}

/// Locking is left to a person: it erases the user's data, and what is trusted is the owner's say.
Step lock_with_key(const PlanFacts& facts) {
  return {
      .id = "own-key",
      .act = act::ByHand{.task = Task::LockWithKey, .file = {facts.key_file, 0, facts.key_sha256}},
      .about = fmt::format("Gives the phone the public key {} as its owner's, in the way its "
                           "maker has for that, then locks the bootloader. Never lock without "
                           "it: the phone would not start.",
                           facts.key_file),
      .before = "every write above was done, and the owner has a copy of what matters",
      .success = "the phone starts locked, and shows that it trusts an owner's key",
      .undo = "unlock the bootloader again",
      .risk = {.data_loss = true},
      .usual_seconds = 300};
}

Step straight_to_recovery(const PlanFacts& facts) {
  Step step{.id = "straight-to-recovery",
            .act = act::ByHand{.task = Task::StartRecovery},
            .about =
                "Starts recovery straight away, before the system: a system that starts first "
                "may write its own recovery back.",
            .before = "recovery was written",
            .success = "recovery's menu is there",
            .screen = "recovery's menu",
            .usual_seconds = 60};
  if (const auto keys = facts.access.find("recovery"); keys != facts.access.end())
    step.notes = {keys->second};
  return step;
}

Step restart(const PlanFacts& facts, std::optional<Mode> mode) {
  // After a wipe or with another system the first start sets everything up again.
  const bool reset = facts.way == Way::Download && facts.writes_vbmeta && !facts.restore;
  const bool slow = facts.wipe || reset || facts.update || facts.install ||
                    std::ranges::any_of(facts.images, &KitImage::is_logical);
  std::string about = slow ? "Starts the system; the first start takes up to ten minutes."
                           : "Starts the system; the first start may take a few minutes, and the "
                             "phone may restart once by itself.";
  // No program restarts it: that was switched off, so that nothing starts too early.
  if (mode == Mode::Download)
    about += " Out of download mode it is brought by the keys that its manual names.";
  return {.id = "restart",
          .act = act::Restart{},
          .about = std::move(about),
          .before = "every step above was done",
          .success = "the system comes up",
          .screen = facts.needs == Needs::Unlocked
                        ? "a warning that the bootloader is unlocked, then the maker's picture"
                        : "the maker's picture",
          .usual_seconds = slow ? kFirstStart : kPlainStart};
}

Step after_start(const PlanFacts& facts, bool back) {
  std::string about = back || facts.restore ? "The phone shows the stock build in its settings."
                      : facts.other_system
                          ? "The phone shows the other system in its settings, and what the recipe "
                            "put in does what it is for."
                          : "The phone shows the build in its settings, and what the recipe put "
                            "in does what it is for.";
  if (facts.recovery_only && !back) {
    const auto keys = facts.access.find("recovery");
    about += fmt::format(
        " What is patched runs in recovery alone: each time it is wanted, the phone "
        "has to be started into recovery{}.",
        keys == facts.access.end() ? " by its keys, not into the system"
                                   : " (" + keys->second + ")");
  }
  if (const auto updates = facts.access.find("updates"); updates != facts.access.end() && !back)
    about += " Automatic updates are still off.";
  else if (!back && !facts.restore)
    about += " Switch automatic updates off: one would take the changed images away, or fail.";
  return {.id = "after-start",
          .act = act::ByHand{.task = Task::Look},
          .about = std::move(about),
          .before = "the system came up",
          .success = facts.build.empty() || (facts.other_system && !back)
                         ? "it is so"
                         : fmt::format("the build is {}", facts.build),
          .usual_seconds = 60};
}

}  // namespace wexlo::steps
