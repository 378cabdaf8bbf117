#include "phone/simulated_phone.hpp"

#include <fmt/format.h>

#include <array>

namespace wexlo {
namespace {

constexpr std::string_view kSizeVariable = "partition-size:";

std::unexpected<Error> refuse(std::string message) {
  return fail({.code = ErrorCode::PhoneRefused, .message = std::move(message)});
}

std::string size_text(std::uint64_t size) {
  return fmt::format("{:#x}", size);
}

}  // namespace

std::string_view phone_mode_word(PhoneMode mode) {
  constexpr std::array<std::string_view, 5> words{"system", "bootloader", "userspace", "download",
                                                  "recovery"};
  return words[static_cast<std::size_t>(mode)];
}

Result<std::optional<std::string>> SimulatedPhone::variable(const std::string& name) {
  if (state.mode != PhoneMode::Bootloader && state.mode != PhoneMode::Userspace)
    return refuse(fmt::format("nothing answers: the phone is in {}", phone_mode_word(state.mode)));
  if (state.silent.contains(name)) return std::nullopt;
  if (const auto at = state.variables.find(name); at != state.variables.end()) return at->second;
  if (name == "unlocked") return state.locked ? "no" : "yes";
  if (name == "current-slot" && state.slotted) return state.slot;
  if (name == "snapshot-update-status" && state.slotted)
    return state.update_waits ? "snapshotted" : "none";
  if (name == "is-userspace") return state.mode == PhoneMode::Userspace ? "yes" : "no";
  if (!name.starts_with(kSizeVariable)) return std::nullopt;
  const std::string partition = name.substr(kSizeVariable.size());
  for (const std::string& one : {partition, partition + "_" + state.slot})
    if (const auto size = size_of(one)) return size_text(*size);
  return std::nullopt;
}

std::optional<std::uint64_t> SimulatedPhone::size_of(const std::string& partition) const {
  if (const auto at = state.logical.find(partition); at != state.logical.end()) return at->second;
  if (const auto at = state.sizes.find(partition); at != state.sizes.end()) return at->second;
  return std::nullopt;
}

Status SimulatedPhone::enter(PhoneMode mode) {
  state.mode = mode;
  return {};
}

Status SimulatedPhone::check_unlocked(std::string_view what) const {
  if (!state.locked) return {};
  return refuse(fmt::format("{} is not allowed: the bootloader is locked", what));
}

Status SimulatedPhone::write(const std::string& partition, const PhoneFile& file) {
  WEXLO_CHECK(check_unlocked("writing"));
  const bool logical = state.logical.contains(partition);
  const PhoneMode wanted = logical ? PhoneMode::Userspace : PhoneMode::Bootloader;
  if (state.mode != wanted)
    return refuse(fmt::format("{} is written in {}, the phone is in {}", partition,
                              phone_mode_word(wanted), phone_mode_word(state.mode)));
  const auto at = state.partitions.find(partition);
  if (at == state.partitions.end()) return refuse(fmt::format("there is no {}", partition));
  if (const auto room = size_of(partition); room && file.size > *room)
    return refuse(fmt::format("{} has {} bytes, the image {}", partition, *room, file.size));
  at->second = file.piece > 1 ? at->second + "+" + file.sha256 : file.sha256;
  return {};
}

Status SimulatedPhone::start(const PhoneFile&) {
  WEXLO_CHECK(check_unlocked("starting an image"));
  if (state.mode != PhoneMode::Bootloader) return refuse("only the bootloader starts an image");
  state.mode = PhoneMode::System;
  return {};
}

Status SimulatedPhone::erase(const std::string& partition) {
  WEXLO_CHECK(check_unlocked("erasing"));
  if (state.mode != PhoneMode::Bootloader && state.mode != PhoneMode::Userspace)
    return refuse("nothing answers");
  if (partition == "userdata")
    state.wiped = true;
  else if (const auto at = state.partitions.find(partition); at != state.partitions.end())
    at->second.clear();
  else
    return refuse(fmt::format("there is no {}", partition));
  return {};
}

Status SimulatedPhone::choose_slot(const std::string& slot) {
  if (!state.slotted) return refuse("the phone has one slot");
  if (slot != "a" && slot != "b") return refuse(fmt::format("there is no slot {}", slot));
  WEXLO_CHECK(check_unlocked("choosing a slot"));
  state.slot = slot;
  return {};
}

Status SimulatedPhone::cancel_update() {
  state.update_waits = false;
  return {};
}

Status SimulatedPhone::check_logical(const std::string& partition, bool there) const {
  WEXLO_CHECK(check_unlocked("changing super"));
  if (state.mode != PhoneMode::Userspace)
    return refuse("logical partitions are changed in the userspace mode");
  if (state.logical.contains(partition) == there) return {};
  return refuse(
      fmt::format("{} is {}", partition, there ? "no logical partition" : "there already"));
}

Status SimulatedPhone::resize(const std::string& partition, std::uint64_t size) {
  std::uint64_t taken = size;
  for (const auto& [name, bytes] : state.logical)
    if (name != partition) taken += bytes;
  if (taken > state.super)
    return refuse(fmt::format("not enough room in super: {} bytes are wanted, {} are there", taken,
                              state.super));
  state.logical[partition] = size;
  return {};
}

Status SimulatedPhone::create_logical(const std::string& partition, std::uint64_t size) {
  WEXLO_CHECK(check_logical(partition, false));
  WEXLO_CHECK(resize(partition, size));
  state.partitions[partition];
  return {};
}

Status SimulatedPhone::resize_logical(const std::string& partition, std::uint64_t size) {
  WEXLO_CHECK(check_logical(partition, true));
  return resize(partition, size);
}

Status SimulatedPhone::drop_logical(const std::string& partition) {
  WEXLO_CHECK(check_logical(partition, true));
  state.logical.erase(partition);
  state.partitions.erase(partition);
  return {};
}

Status SimulatedPhone::restart() {
  state.mode = PhoneMode::System;
  return {};
}

void SimulatedPhone::set_locked(bool locked) {
  if (state.locked != locked) state.wiped = true;
  state.locked = locked;
}

}  // namespace wexlo
