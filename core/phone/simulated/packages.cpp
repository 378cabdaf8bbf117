#include "phone/simulated/packages.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/contains.hpp"
#include "base/error_kinds.hpp"
#include "firmware/formats.hpp"
#include "image/partitions.hpp"
#include "verified/chain.hpp"

namespace wexlo {
namespace {

constexpr std::string_view kUserData = "userdata";

std::unexpected<Error> reject(std::string message) {
  return fail({.code = ErrorCode::PhoneRefused, .message = std::move(message)});
}

/// An image and the partition that it goes to.
struct Aimed {
  const PartitionFacts* facts;
  std::string name;
};

class Installer {
 public:
  Installer(SimulatedPhone& phone, const Firmware& package) : phone_(phone), package_(package) {}

  /// @param slot  that bare names mean
  Status aim(const std::string& slot, bool all_known) {
    for (const PartitionFacts& one : package_.partitions) {
      if (!one.inside.empty()) continue;  // it comes with what it is inside of
      if (without_slot(one.name) == kUserData) {
        wipes_ = true;
        continue;
      }
      const std::string name = place_of(one.name, slot);
      if (!name.empty())
        aimed_.push_back({&one, name});
      else if (all_known)
        return reject(fmt::format("there is no partition for {}", one.name));
    }
    return {};
  }
  [[nodiscard]] bool has_any() const { return !aimed_.empty() || wipes_; }

  Status read() {
    for (const Aimed& one : aimed_) {
      WEXLO_TRY(SourcePtr source, one.facts->content->source(phone_.context()));
      const auto room = phone_.size_of(one.name);
      if (!phone_.is_logical(one.name) && source->size() > *room)
        return reject(
            fmt::format("{} has {} bytes, the image {}", one.name, *room, source->size()));
      sources_[one.name] = std::move(source);
    }
    return {};
  }

  /// Whether a locked phone would start it: its guard takes nothing else then.
  Result<bool> is_official() const {
    const verified::WalkOptions options{
        .find = [&](const std::string& name) -> Result<SourcePtr> {
          if (const auto at = sources_.find(name); at != sources_.end()) return at->second;
          if (!phone_.size_of(name)) return nullptr;
          return phone_.content(name);
        },
        .suffix = phone_.state.slotted ? "_" + phone_.state.slot : "",
        .root_key = phone_.state.root_key,
        .rollback = phone_.state.rollback,
        .look = verified::Look::Hashes,
        .whole = false};
    WEXLO_TRY(const verified::Walk walk, verified::walk_chain(options, phone_.context()));
    return walk.locked_starts();
  }

  Result<Installed> write() {
    Installed out;
    for (const auto& [name, source] : sources_) {
      WEXLO_CHECK(phone_.replace(name, source));
      out.partitions.push_back(name);
    }
    if (wipes_) phone_.wipe_data();
    out.said = fmt::format("{} partitions were written{}", out.partitions.size(),
                           wipes_ ? "; a part of the package wiped the user's data" : "");
    return out;
  }

 private:
  std::string place_of(const std::string& name, const std::string& slot) const {
    for (const std::string& one : {name + slot, name})
      if (phone_.size_of(one)) return one;
    return {};
  }

  SimulatedPhone& phone_;
  const Firmware& package_;
  std::vector<Aimed> aimed_;
  std::map<std::string, SourcePtr> sources_;
  bool wipes_ = false;
};

/// Packages name their devices parted by `|` or `,`.
bool is_for(std::string_view devices, std::string_view product) {
  for (std::size_t at = 0; at <= devices.size();) {
    const std::size_t end = std::min(devices.find_first_of("|,", at), devices.size());
    if (devices.substr(at, end - at) == product) return true;
    at = end + 1;
  }
  return false;
}

bool is_payload(const Firmware& package) {
  return contains(package.layers, std::string("payload"), &Layer::kind);
}

}  // namespace

Result<Installed> install_package(SimulatedPhone& phone, const SourcePtr& package) {
  if (phone.mode() != PhoneMode::Recovery)
    return reject("a package is installed from recovery, which does not run");
  if (phone.faults.symptom() == Symptom::RefusesUpdate)
    return reject("the package is older than what is on the phone");
  const auto opened = open_source(package, {.context = phone.context()});
  if (!opened && is_of_this_run(opened.error().code)) return fail(opened.error());
  const Installed unknown{{}, "what the package writes is not known here", false};
  if (!opened) return unknown;
  const FirmwarePtr& firmware = *opened;
  const std::string& device = firmware->build.device;
  if (!device.empty() && !phone.state.product.empty() && !is_for(device, phone.state.product))
    return reject(
        fmt::format("the package is for {}, this phone is {}", device, phone.state.product));
  Installer installer(phone, *firmware);
  const bool elsewhere = is_payload(*firmware) && phone.state.slotted;
  const std::string slot = elsewhere ? phone.other_slot() : phone.state.slot;
  WEXLO_CHECK(installer.aim(phone.state.slotted ? "_" + slot : "", false));
  if (!installer.has_any()) return unknown;
  WEXLO_CHECK(installer.read());
  WEXLO_TRY(Installed out, installer.write());
  if (elsewhere) {
    phone.state.slot = slot;
    phone.state.slots[slot] = {.successful = false};
    out.said += fmt::format("; the phone starts from slot {} next", slot);
  }
  return out;
}

Result<Installed> take_download(SimulatedPhone& phone, const SourcePtr& tar) {
  if (phone.mode() != PhoneMode::Download)
    return reject("no program reaches the phone: it is not in download mode");
  WEXLO_TRY(const auto sum, find_sum_line(*tar));
  if (sum) WEXLO_CHECK(check_sum_line(*tar, *sum, phone.context()));
  WEXLO_TRY(const FirmwarePtr firmware, open_source(tar, {.context = phone.context()}));
  Installer installer(phone, *firmware);
  WEXLO_CHECK(installer.aim(phone.state.slotted ? "_" + phone.state.slot : "", true));
  WEXLO_CHECK(installer.read());
  if (phone.state.locked || !phone.state.download.online) {
    WEXLO_TRY(const bool official, installer.is_official());
    if (!official)
      return reject(phone.state.locked
                        ? "only official images are taken: the phone is locked"
                        : "only official images are taken: the phone was not online since it was "
                          "unlocked");
  }
  return installer.write();
}

}  // namespace wexlo
