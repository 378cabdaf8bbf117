#include "phone/fastboot/fastboot_phone.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <thread>

#include "phone/held_back.hpp"
#include "text/text.hpp"

namespace wexlo {
Error FastbootPhone::named(Error error) const {
  return in_file(std::move(error), address_text(address_));
}

/// At the first address that answers.
Status FastbootPhone::connect() {
  std::optional<Error> first;
  for (const PhoneAddress& one : addresses_) {
    auto link = connect_phone(one, context_, waits_.link);
    if (link) {
      link_ = std::move(*link);
      address_ = one;
      return {};
    }
    if (!first || link.error().code == ErrorCode::Interrupted) first = std::move(link).error();
  }
  return fail(std::move(*first));
}

Status FastbootPhone::reach() {
  WEXLO_CHECK(connect());
  WEXLO_TRY(const auto serial, variable("serialno"));
  if (serial && !serial_.empty() && *serial != serial_) {
    link_.reset();
    return fail({.code = ErrorCode::LinkLost,
                 .message = "another phone answers at this address now",
                 .file = address_text(address_),
                 .expected = serial_,
                 .found = *serial,
                 .hint = "Connect the phone that the job was begun with."});
  }
  if (serial) serial_ = *serial;
  WEXLO_TRY(const auto userspace, variable("is-userspace"));
  mode_ = userspace && *userspace == "yes" ? PhoneMode::Userspace : PhoneMode::Bootloader;
  return {};
}

Status FastbootPhone::attach() {
  if (attached()) return {};
  auto reached = reach();
  if (!reached) link_.reset();
  return reached;
}

Status FastbootPhone::wait_for(milliseconds limit) {
  const auto until = std::chrono::steady_clock::now() + limit;
  for (;;) {
    auto reached = attach();
    if (reached || reached.error().code != ErrorCode::LinkLost) return reached;
    if (std::chrono::steady_clock::now() >= until) return reached;
    WEXLO_CHECK(check_stop(context_));
    std::this_thread::sleep_for(waits_.again);
  }
}

Result<std::optional<std::string>> FastbootPhone::variable(const std::string& name) {
  WEXLO_CHECK(attach());
  link_->bear_silence(time_for("getvar:", waits_.link));
  auto value = phone_variable(*link_, name);
  if (!value) {
    // What is out of step after a lost reply cannot be gone on with.
    link_.reset();
    return fail(named(std::move(value).error()));
  }
  return value;
}

Result<std::string> FastbootPhone::all_variables() {
  WEXLO_CHECK(attach());
  link_->bear_silence(waits_.link.reply);
  auto out = phone_variables(*link_, context_);
  if (!out) return fail(named(std::move(out).error()));
  return out;
}

Result<std::optional<std::uint64_t>> FastbootPhone::number(const std::string& name) {
  WEXLO_TRY(const auto text, variable(name));
  if (!text) return std::nullopt;
  // Decimal, or hexadecimal behind 0x: either is seen.
  return parse_number(*text);
}

Status FastbootPhone::order(const std::string& command) {
  WEXLO_CHECK(attach());
  WEXLO_CHECK(check_stop(context_));
  link_->bear_silence(time_for(command, waits_.link));
  auto told = order_phone(*link_, command, on_line);
  if (told) return told;
  if (told.error().code != ErrorCode::PhoneRefused) link_.reset();
  return fail(named(std::move(told).error()));
}

Status FastbootPhone::hand(const Source& file) {
  WEXLO_CHECK(attach());
  link_->bear_silence(waits_.link.reply);
  auto sent = download(*link_, file, context_, on_line);
  if (!sent && sent.error().code != ErrorCode::PhoneRefused) link_.reset();
  if (!sent) return fail(named(std::move(sent).error()));
  return {};
}

Status FastbootPhone::leave(const std::string& command, PhoneMode mode) {
  WEXLO_CHECK(attach());
  link_->bear_silence(time_for(command, waits_.link));
  auto told = send_away(*link_, command, on_line);
  if (!told && told.error().code == ErrorCode::PhoneRefused)
    return fail(named(std::move(told).error()));
  link_.reset();
  if (!told) return fail(named(std::move(told).error()));
  mode_ = mode;
  return {};
}

/// A phone that restarts may answer for a moment as what it was.
Status FastbootPhone::come_back(PhoneMode mode) {
  const auto until = std::chrono::steady_clock::now() + waits_.back;
  for (;;) {
    const auto left =
        std::chrono::duration_cast<milliseconds>(until - std::chrono::steady_clock::now());
    std::this_thread::sleep_for(waits_.again);
    WEXLO_CHECK(wait_for(std::max(left, milliseconds(0))));
    if (mode_ == mode) return {};
    link_.reset();
    if (left.count() <= 0) break;
  }
  return fail({.code = ErrorCode::PhoneRefused,
               .message = fmt::format("the phone did not come back as {}", phone_mode_word(mode)),
               .file = address_text(address_),
               .expected = std::string(phone_mode_word(mode)),
               .found = std::string(phone_mode_word(mode_)),
               .hint = "Does this phone have that mode? Look at its screen."});
}

Status FastbootPhone::enter(PhoneMode mode) {
  const bool here = attached() || attach().has_value();
  if (!here)
    return fail({.code = ErrorCode::Unsupported,
                 .message = fmt::format("the phone does not answer: bring it to {} by its keys",
                                        phone_mode_word(mode)),
                 .file = address_text(address_)});
  if (mode_ == mode) return {};
  switch (mode) {
    case PhoneMode::Bootloader:
      WEXLO_CHECK(leave("reboot-bootloader", PhoneMode::System));
      return come_back(mode);
    case PhoneMode::Userspace:
      WEXLO_CHECK(leave("reboot-fastboot", PhoneMode::System));
      return come_back(mode);
    case PhoneMode::Recovery: {
      auto left = leave("reboot-recovery", mode);
      if (left || left.error().code != ErrorCode::PhoneRefused) return left;
      break;
    }
    case PhoneMode::System: return restart();
    case PhoneMode::Download: break;
  }
  return fail({.code = ErrorCode::Unsupported,
               .message = fmt::format("no command brings this phone to {}", phone_mode_word(mode)),
               .file = address_text(address_)});
}

Status FastbootPhone::brought(PhoneMode mode) {
  link_.reset();
  if (mode != PhoneMode::Bootloader && mode != PhoneMode::Userspace) {
    mode_ = mode;
    return {};
  }
  return come_back(mode);
}

Status FastbootPhone::write(const std::string& partition, const PhoneFile& file) {
  WEXLO_TRY(const auto told, number("max-download-size"));
  const std::uint64_t limit = std::min(told && *told > 0 ? *told : kMaxDownload, kMaxDownload);
  if (file.bytes->size() > limit) return write_pieces(partition, file, limit);
  WEXLO_CHECK(hand(*file.bytes));
  return order("flash:" + partition);
}

/// The first pieces may be there when a later one fails: then nobody knows what the partition
/// holds.
Status FastbootPhone::write_pieces(const std::string& partition, const PhoneFile& file,
                                   std::uint64_t limit) {
  WEXLO_TRY(const WrittenImage written, as_written(file.bytes, context_));
  const SparseInput input{*written.image, written.given};
  WEXLO_TRY(const auto cuts, cut_sparse(input, limit, context_));
  for (std::size_t i = 0; i < cuts.size(); ++i) {
    WEXLO_TRY(const SourcePtr piece, sparse_source(input, cuts[i], file.name, context_));
    auto done = hand(*piece);
    if (done) done = order("flash:" + partition);
    if (done) continue;
    Error why = std::move(done).error();
    if (i > 0) {
      why.code = ErrorCode::ReplyLost;
      why.message = fmt::format("{} of {} pieces of {} were written, then: {}", i, cuts.size(),
                                partition, why.message);
    }
    return fail(std::move(why));
  }
  return {};
}

Result<std::optional<bool>> FastbootPhone::holds(const std::string& partition,
                                                 const PhoneFile& file) {
  constexpr std::uint64_t kOwnMost = 4u << 20;
  WEXLO_TRY(const auto told, number("max-fetch-size"));
  if (!told || *told == 0) return std::nullopt;
  WEXLO_TRY(const WrittenImage written, as_written(file.bytes, context_));
  std::optional<Error> refused;
  const ReadBack read = [&](std::uint64_t offset, MutableView out) -> Status {
    std::size_t at = 0;
    const std::string command =
        fmt::format("fetch:{}:{:#010x}:{:#010x}", partition, offset, out.size());
    link_->bear_silence(time_for(command, waits_.link));
    const auto take = [&](View piece) -> Status {
      std::ranges::copy(piece, out.begin() + static_cast<std::ptrdiff_t>(at));
      at += piece.size();
      return {};
    };
    auto got = fetch(*link_, command, out.size(), take, context_);
    if (got && *got == out.size()) return {};
    if (got)
      refused = Error{.code = ErrorCode::PhoneRefused, .message = "it gives fewer bytes"};
    else
      refused = got.error();
    return fail(*refused);
  };
  const auto held = is_held(written, std::min(*told, kOwnMost), read, context_);
  if (held) return *held;
  // Of some partitions a phone gives nothing back.
  if (refused && refused->code == ErrorCode::PhoneRefused) return std::nullopt;
  link_.reset();
  return fail(named(held.error()));
}

Status FastbootPhone::start(const PhoneFile& file) {
  WEXLO_CHECK(hand(*file.bytes));
  return leave("boot", PhoneMode::System);
}

Status FastbootPhone::erase(const std::string& partition) {
  return order("erase:" + partition);
}

Status FastbootPhone::choose_slot(const std::string& slot) {
  return order("set_active:" + slot);
}

Status FastbootPhone::cancel_update() {
  return order("snapshot-update:cancel");
}

Status FastbootPhone::create_logical(const std::string& partition, std::uint64_t size) {
  return order(fmt::format("create-logical-partition:{}:{}", partition, size));
}

Status FastbootPhone::resize_logical(const std::string& partition, std::uint64_t size) {
  return order(fmt::format("resize-logical-partition:{}:{}", partition, size));
}

Status FastbootPhone::drop_logical(const std::string& partition) {
  return order(fmt::format("delete-logical-partition:{}", partition));
}

Status FastbootPhone::restart() {
  const bool on_wire = mode_ == PhoneMode::Bootloader || mode_ == PhoneMode::Userspace;
  if (!on_wire && !attach())
    return fail({.code = ErrorCode::Unsupported,
                 .message = "the phone does not answer: start it by its keys",
                 .file = address_text(address_)});
  return leave("reboot", PhoneMode::System);
}

}  // namespace wexlo
