#include "phone/simulated/simulated_phone.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/contains.hpp"
#include "image/partitions.hpp"

namespace wexlo {
namespace {

constexpr const char* kSuper = "super";

std::unexpected<Error> refuse(std::string message) {
  return fail({.code = ErrorCode::PhoneRefused, .message = std::move(message)});
}

bool on_the_wire(PhoneMode mode) {
  return mode == PhoneMode::Bootloader || mode == PhoneMode::Userspace;
}

Error by_hand(PhoneMode now, PhoneMode wanted) {
  return {.code = ErrorCode::Unsupported,
          .message = fmt::format("no command brings the phone from {} to {}: its keys do",
                                 phone_mode_word(now), phone_mode_word(wanted))};
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

Status SimulatedPhone::begin(const std::string& command) {
  WEXLO_CHECK(check_stop(context_));
  WEXLO_CHECK(answers());
  const auto fault = faults.command(command);
  if (!fault) return {};
  if (*fault == FaultKind::Refuses) return refuse("command not allowed");
  return fail({.code = ErrorCode::LinkLost, .message = "nothing is heard of the phone"});
}

Status SimulatedPhone::end(const std::string& command) {
  if (!faults.loses_reply(command)) return {};
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
  const std::string command = mode == PhoneMode::Bootloader  ? "reboot-bootloader"
                              : mode == PhoneMode::Userspace ? "reboot-fastboot"
                                                             : "reboot-recovery";
  WEXLO_CHECK(begin(command));
  bring(mode);
  // Whether its answer was heard makes no difference: the link ends with it.
  (void)end(command);
  return {};
}

Status SimulatedPhone::transfer(std::uint64_t size) {
  WEXLO_CHECK(begin(fmt::format("download:{:08x}", size)));
  if (size > state.download_limit)
    return refuse(
        fmt::format("{} bytes are more than one download takes: {}", size, state.download_limit));
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

Status SimulatedPhone::put(const std::string& partition, const WrittenImage& image) {
  std::vector<Put> puts;
  for (const ByteRange& range : image.given)
    for (std::uint64_t at = range.begin; at < range.end;) {
      WEXLO_TRY(const Stretch stretch, image.image->stretch_at(at));
      const std::uint64_t size = std::min(stretch.size, range.end - at);
      puts.push_back({at, size, stretch.hole ? nullptr : image.image, at});
      at += size;
    }
  return put_raw(partition, std::move(puts));
}

/// A logical partition's bytes lie in super, wherever its extents are.
Status SimulatedPhone::put_raw(const std::string& partition, std::vector<Put> puts) {
  if (partition == kSuper) super_.reset();
  if (without_slot(partition) == "recovery") state.recovery_ran = false;
  if (!is_logical(partition)) return store_->put(partition, puts);
  std::vector<Put> mapped;
  std::uint64_t begin = 0;
  for (const ByteRange& extent : super()->find(partition)->extents) {
    const std::uint64_t end = begin + (extent.end - extent.begin);
    for (const Put& one : puts) {
      const std::uint64_t from = std::max(one.at, begin), to = std::min(one.at + one.size, end);
      if (from >= to) continue;
      mapped.push_back(
          {extent.begin + (from - begin), to - from, one.source, one.from + (from - one.at)});
    }
    begin = end;
  }
  return store_->put(kSuper, mapped);
}

/// One block of what was written becomes another.
Status SimulatedPhone::spoil(const std::string& partition, const WrittenImage& image) {
  constexpr std::uint64_t kBlock = 4096;
  if (image.given.empty()) return {};
  const ByteRange& range = image.given.back();
  const std::uint64_t at = range.begin + (range.end - range.begin) / 2 / kBlock * kBlock;
  Bytes block(static_cast<std::size_t>(std::min(kBlock, range.end - at)));
  WEXLO_CHECK(image.image->read_at(at, block));
  for (std::byte& one : block)
    one ^= std::byte{0x5A};
  const std::uint64_t size = block.size();
  return put_raw(partition, {{at, size, open_memory(Blob(std::move(block)), "a bad block"), 0}});
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
  WEXLO_CHECK(begin("boot"));
  WEXLO_CHECK(check_unlocked("starting an image"));
  if (state.mode != PhoneMode::Bootloader) return refuse("only the bootloader starts an image");
  state.mode = PhoneMode::System;
  if (on_start) on_start(file.bytes);
  return {};
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
  const std::string command = "snapshot-update:cancel";
  WEXLO_CHECK(begin(command));
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

SuperEdit* SimulatedPhone::super() {
  if (super_ || no_super_) return super_ ? &*super_ : nullptr;
  const auto source = store_->read(kSuper);
  auto read = source ? SuperEdit::read(**source) : Result<SuperEdit>(fail(source.error()));
  // A phone without super has none as long as nothing is written there.
  no_super_ = !source;
  if (read) super_ = std::move(*read);
  return super_ ? &*super_ : nullptr;
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
  WEXLO_CHECK(begin("reboot"));
  bring(PhoneMode::System);
  return {};
}

Status SimulatedPhone::flashing_lock(bool lock) {
  const std::string command = lock ? "flashing lock" : "flashing unlock";
  WEXLO_CHECK(begin(command));
  if (state.locked == lock) return refuse(lock ? "already locked" : "already unlocked");
  set_locked(lock);
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

Result<SourcePtr> SimulatedPhone::content(const std::string& partition) {
  if (!is_logical(partition)) return store_->read(partition);
  WEXLO_TRY(const SourcePtr whole, store_->read(kSuper));
  std::vector<Piece> pieces;
  for (const ByteRange& extent : super()->find(partition)->extents)
    pieces.push_back({whole, extent.begin, extent.end - extent.begin});
  return open_joined(std::move(pieces), partition);
}

Status SimulatedPhone::replace(const std::string& partition, const SourcePtr& image) {
  const auto room = size_of(partition);
  if (!room)
    return fail({.code = ErrorCode::NotFound, .message = fmt::format("there is no {}", partition)});
  WEXLO_TRY(const WrittenImage written, as_written(image, context_));
  if (written.end() > *room)
    return fail({.code = ErrorCode::DoesNotFit,
                 .message = fmt::format("the image of {} is larger than the partition", partition),
                 .expected = fmt::format("at most {} bytes", *room),
                 .found = fmt::format("{} bytes", written.end())});
  state.written.insert(partition);
  return put(partition, written);
}

bool SimulatedPhone::is_logical(const std::string& partition) {
  return super() != nullptr && super()->find(partition) != nullptr;
}

std::optional<std::uint64_t> SimulatedPhone::size_of(const std::string& partition) {
  if (is_logical(partition)) return super()->find(partition)->size();
  return store_->size_of(partition);
}

std::string SimulatedPhone::full_name(const std::string& partition) {
  for (const std::string& one : {partition, partition + "_" + state.slot})
    if (size_of(one)) return one;
  return {};
}

std::vector<std::string> SimulatedPhone::partitions() {
  std::vector<std::string> out;
  for (const auto& [name, size] : store_->sizes())
    out.push_back(name);
  if (super() != nullptr)
    for (const SuperEdit::Row& one : super()->partitions())
      out.push_back(one.name);
  return out;
}

}  // namespace wexlo
