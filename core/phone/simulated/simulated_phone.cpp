#include "phone/simulated/simulated_phone.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "image/partitions.hpp"

namespace wexlo {
namespace {

std::unexpected<Error> refuse(std::string message) {
  return fail({.code = ErrorCode::PhoneRefused, .message = std::move(message)});
}

bool on_the_wire(PhoneMode mode) {
  return mode == PhoneMode::Bootloader || mode == PhoneMode::Userspace;
}

Error by_hand(PhoneMode now, PhoneMode wanted) {
  return {.code = ErrorCode::Unsupported,
          .message = fmt::format("no command brings the phone from {} to {}: use its keys",
                                 phone_mode_word(now), phone_mode_word(wanted))};
}

std::string_view reboot_command(PhoneMode mode) {
  switch (mode) {
    case PhoneMode::Bootloader: return "reboot-bootloader";
    case PhoneMode::Userspace: return "reboot-fastboot";
    case PhoneMode::Recovery: return "reboot-recovery";
    default: return "reboot";
  }
}

/// The link ends with it: whether the answer was heard makes no difference.
Status heard(Status answered) {
  if (!answered && answered.error().code == ErrorCode::ReplyLost) return {};
  return answered;
}

}  // namespace

SimulatedPhone::SimulatedPhone(PhoneState start, StorePtr store, Faults faulty, Context context)
    : state(std::move(start)),
      faults(std::move(faulty)),
      store_(std::move(store)),
      context_(std::move(context)) {
  constexpr unsigned kAlmostEmpty = 3;
  if (faults.has(FaultKind::LowBattery)) state.battery = kAlmostEmpty;
}

SlotMarks SimulatedPhone::marks_of(const std::string& slot) const {
  const auto at = state.slots.find(slot);
  return at == state.slots.end() ? SlotMarks{} : at->second;
}

Status SimulatedPhone::answers() const {
  if (on_the_wire(state.mode)) return {};
  return refuse(fmt::format("nothing answers: the phone is in {}", phone_mode_word(state.mode)));
}

Status SimulatedPhone::begin(std::string_view command) {
  WEXLO_CHECK(check_stop(context_));
  WEXLO_CHECK(answers());
  const auto fault = faults.command(command);
  if (!fault) return {};
  if (*fault == FaultKind::Refuses) return refuse("command not allowed");
  return fail({.code = ErrorCode::LinkLost, .message = "nothing is heard of the phone"});
}

Status SimulatedPhone::end(std::string_view command, const Answer& answer) {
  if (!faults.loses_reply(command)) return answer ? answer() : Status();
  return fail(
      {.code = ErrorCode::ReplyLost, .message = fmt::format("the answer to {} was lost", command)});
}

Status SimulatedPhone::check_unlocked(std::string_view what) const {
  if (state.locked) return refuse(fmt::format("{} is not allowed: the bootloader is locked", what));
  if (state.update == UpdateState::Merging)
    return refuse(fmt::format("{} is not allowed: an update is being merged", what));
  return {};
}

Status SimulatedPhone::enter(PhoneMode mode) {
  if (state.mode == mode) return {};
  if (!on_the_wire(state.mode) || mode == PhoneMode::Download)
    return fail(by_hand(state.mode, mode));
  if (mode == PhoneMode::System) return restart();
  return heard(reboot(mode, {}));
}

Status SimulatedPhone::reboot(PhoneMode mode, const Answer& answer) {
  const std::string_view command = reboot_command(mode);
  WEXLO_CHECK(begin(command));
  if (mode == PhoneMode::Userspace && !has_userspace()) return refuse("unknown command");
  Status answered = end(command, answer);
  bring(mode);
  return answered;
}

Status SimulatedPhone::may_download(std::uint64_t size) {
  WEXLO_CHECK(begin(fmt::format("download:{:08x}", size)));
  if (size == 0) return refuse("nothing is to be sent");
  if (size <= state.download_limit) return {};
  return refuse(
      fmt::format("{} bytes are more than one download takes: {}", size, state.download_limit));
}

Status SimulatedPhone::transfer(std::uint64_t size) {
  WEXLO_CHECK(may_download(size));
  if (!faults.data(size)) return {};
  return fail({.code = ErrorCode::LinkLost, .message = "the link dropped while a file was sent"});
}

Status SimulatedPhone::write(const std::string& partition, const PhoneFile& file) {
  WEXLO_CHECK(transfer(file.bytes->size()));
  return flash(partition, file);
}

Status SimulatedPhone::flash(const std::string& partition, const PhoneFile& file) {
  const std::string command = "flash:" + partition;
  WEXLO_CHECK(begin(command));
  WEXLO_CHECK(check_unlocked("writing"));
  const std::string name = full_name(partition);
  if (name.empty()) return refuse(fmt::format("there is no {}", partition));
  const PhoneMode wanted = is_logical(name) ? PhoneMode::Userspace : PhoneMode::Bootloader;
  if (state.mode != wanted)
    return refuse(fmt::format("{} is written in {}, the phone is in {}", name,
                              phone_mode_word(wanted), phone_mode_word(state.mode)));
  if (state.critical_locked && state.critical.contains(std::string(without_slot(name))))
    return refuse(
        fmt::format("{} is protected: it takes the unlocking of critical partitions", name));
  const auto image = as_written(file.bytes, context_);
  if (!image) return refuse(fmt::format("the image does not read: {}", image.error().message));
  const std::uint64_t room = *size_of(name);
  if (image->end() > room)
    return refuse(fmt::format("{} has {} bytes, the image {}", name, room, image->end()));
  WEXLO_CHECK(put(name, *image));
  state.written.insert(name);
  if (faults.spoils_write()) WEXLO_CHECK(spoil(name, *image));
  return end(command);
}

Result<std::optional<bool>> SimulatedPhone::holds(const std::string& partition,
                                                  const PhoneFile& file) {
  WEXLO_CHECK(answers());
  const auto given = give_back(partition);
  if (!given && given.error().code == ErrorCode::PhoneRefused) return std::nullopt;
  if (!given) return fail(given.error());
  WEXLO_TRY(const WrittenImage image, as_written(file.bytes, context_));
  const ReadBack read = [&](std::uint64_t offset, MutableView out) {
    return (*given)->read_at(offset, out);
  };
  WEXLO_TRY(const bool held, is_held(image, state.fetch_limit, read, context_));
  return held;
}

Result<SourcePtr> SimulatedPhone::give_back(const std::string& partition) {
  WEXLO_CHECK(begin("fetch:" + partition));
  const bool offered =
      state.gives_back == ReadingBack::Everywhere ||
      (state.gives_back == ReadingBack::Userspace && state.mode == PhoneMode::Userspace);
  if (!offered) return refuse("unknown command");
  WEXLO_CHECK(check_unlocked("reading back"));
  const std::string name = full_name(partition);
  if (name.empty()) return refuse(fmt::format("there is no {}", partition));
  return content(name);
}

Status SimulatedPhone::start(const PhoneFile& file) {
  WEXLO_CHECK(transfer(file.bytes->size()));
  return heard(start_once(file.bytes, {}));
}

Status SimulatedPhone::start_once(const SourcePtr& image, const Answer& answer) {
  constexpr std::string_view kCommand = "boot";
  WEXLO_CHECK(begin(kCommand));
  WEXLO_CHECK(check_unlocked("starting an image"));
  if (state.mode != PhoneMode::Bootloader) return refuse("only the bootloader starts an image");
  Status answered = end(kCommand, answer);
  state.mode = PhoneMode::System;
  if (on_start) on_start(image);
  return answered;
}

Status SimulatedPhone::erase(const std::string& partition) {
  const std::string command = "erase:" + partition;
  WEXLO_CHECK(begin(command));
  WEXLO_CHECK(check_unlocked("erasing"));
  if (partition == "userdata") {
    wipe_data();
    return end(command);
  }
  const std::string name = full_name(partition);
  if (name.empty()) return refuse(fmt::format("there is no {}", partition));
  WEXLO_CHECK(put_raw(name, {{0, *size_of(name), nullptr, 0}}));
  state.written.insert(name);
  return end(command);
}

Status SimulatedPhone::choose_slot(const std::string& slot) {
  const std::string command = "set_active:" + slot;
  WEXLO_CHECK(begin(command));
  if (!state.slotted) return refuse("the phone has one slot");
  if (slot != "a" && slot != "b") return refuse(fmt::format("there is no slot {}", slot));
  WEXLO_CHECK(check_unlocked("choosing a slot"));
  state.slot = slot;
  state.slots[slot] = {.tries = SlotMarks{}.tries, .successful = false, .unbootable = false};
  return end(command);
}

Status SimulatedPhone::cancel_update() {
  return end_update("cancel");
}

Status SimulatedPhone::end_update(const std::string& how) {
  const std::string command = "snapshot-update:" + how;
  WEXLO_CHECK(begin(command));
  if (how != "cancel" && how != "merge") return refuse("unknown command");
  state.update = UpdateState::None;
  return end(command);
}

Status SimulatedPhone::check_logical(const std::string& partition, bool there) {
  WEXLO_CHECK(check_unlocked("changing super"));
  if (state.mode != PhoneMode::Userspace)
    return refuse("logical partitions are changed in the userspace mode");
  if (is_logical(partition) == there) return {};
  return refuse(
      fmt::format("{} is {}", partition, there ? "no logical partition" : "there already"));
}

Status SimulatedPhone::change_super(const std::function<Status(SuperEdit&)>& change) {
  if (super() == nullptr) return refuse("super holds no valid tables");
  SuperEdit changed = *super_;
  if (auto done = change(changed); !done) {
    const Error& why = done.error();
    return refuse(why.expected.empty()
                      ? why.message
                      : fmt::format("{}: {} are wanted, {}", why.message, why.expected, why.found));
  }
  const Blob head(changed.head());
  WEXLO_CHECK(store_->put(kSuper, {{0, head.size(), open_memory(head, kSuper), 0}}));
  super_ = std::move(changed);
  return {};
}

Status SimulatedPhone::update_super(const std::string& partition, const SourcePtr& tables) {
  const std::string command = "update-super:" + partition;
  WEXLO_CHECK(begin(command));
  WEXLO_CHECK(check_unlocked("changing super"));
  if (state.mode != PhoneMode::Userspace || partition != kSuper)
    return refuse("super's tables are changed in the userspace mode");
  // Such an image has its geometry at the start; where it lies on the disk 4 KiB stand before it.
  WEXLO_TRY(const SourcePtr shifted,
            open_joined({{nullptr, 0, 4096}, {tables, 0, 4096}, {tables, 0, tables->size()}},
                        "super's tables"));
  const auto read = SuperEdit::read(*shifted);
  if (!read) return refuse(fmt::format("the tables are not valid: {}", read.error().message));
  WEXLO_CHECK(change_super([&](SuperEdit& old) -> Status {
    old = *read;
    return {};
  }));
  return end(command);
}

Status SimulatedPhone::create_logical(const std::string& partition, std::uint64_t size) {
  const std::string command = fmt::format("create-logical-partition:{}:{}", partition, size);
  WEXLO_CHECK(begin(command));
  WEXLO_CHECK(check_logical(partition, false));
  if (faults.has(FaultKind::FullSuper)) return refuse("super has no room for that");
  WEXLO_CHECK(change_super([&](SuperEdit& tables) { return tables.create(partition, "", size); }));
  return end(command);
}

Status SimulatedPhone::resize_logical(const std::string& partition, std::uint64_t size) {
  const std::string command = fmt::format("resize-logical-partition:{}:{}", partition, size);
  WEXLO_CHECK(begin(command));
  WEXLO_CHECK(check_logical(partition, true));
  if (faults.has(FaultKind::FullSuper) && size > *size_of(partition))
    return refuse("super has no room for that");
  WEXLO_CHECK(change_super([&](SuperEdit& tables) { return tables.resize(partition, size); }));
  return end(command);
}

Status SimulatedPhone::drop_logical(const std::string& partition) {
  const std::string command = "delete-logical-partition:" + partition;
  WEXLO_CHECK(begin(command));
  WEXLO_CHECK(check_logical(partition, true));
  WEXLO_CHECK(change_super([&](SuperEdit& tables) { return tables.drop(partition); }));
  return end(command);
}

Status SimulatedPhone::restart() {
  if (!on_the_wire(state.mode)) return fail(by_hand(state.mode, PhoneMode::System));
  return heard(reboot(PhoneMode::System, {}));
}

Status SimulatedPhone::flashing_lock(bool lock) {
  const std::string command = lock ? "flashing lock" : "flashing unlock";
  WEXLO_CHECK(begin(command));
  if (state.locked == lock) return refuse(lock ? "already locked" : "already unlocked");
  set_locked(lock);
  return end(command);
}

Status SimulatedPhone::lock_critical(bool lock) {
  const std::string command = lock ? "flashing lock_critical" : "flashing unlock_critical";
  WEXLO_CHECK(begin(command));
  state.critical_locked = lock;
  return end(command);
}

void SimulatedPhone::bring(PhoneMode mode) {
  state.mode = mode;
  if (mode == PhoneMode::Recovery) state.recovery_ran = true;
  if (mode == PhoneMode::System && on_start) on_start(nullptr);
}

void SimulatedPhone::set_locked(bool locked) {
  if (state.locked == locked) return;
  wipe_data();
  state.locked = locked;
  if (!locked) state.download.online = false;
}

void SimulatedPhone::wipe_data() {
  state.data = {.wiped = true, .bound_to = {}};
}

}  // namespace wexlo
