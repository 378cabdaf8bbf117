#include "phone/simulated/bootloader.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <thread>

#include "firmware/content.hpp"
#include "phone/fastboot/command.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

constexpr std::size_t kPiece = 1u << 20, kMostReply = 256;

/// The words of a command behind its name, parted by colons.
std::vector<std::string> words_of(std::string_view text) {
  std::vector<std::string> out;
  for (std::size_t at = 0; at <= text.size();) {
    const std::size_t end = std::min(text.find(':', at), text.size());
    out.emplace_back(text.substr(at, end - at));
    at = end + 1;
  }
  return out;
}

class BootloaderSide {
 public:
  BootloaderSide(Link& host, SimulatedPhone& phone, std::mutex& turn,
                 const std::function<void()>& told)
      : host_(host), phone_(phone), turn_(turn), told_(told), mode_(phone.mode()) {}

  void run() {
    for (;;) {
      const auto message = host_.receive();
      if (!message) return;
      const std::lock_guard mine(turn_);
      // Another host may have sent it elsewhere.
      if (phone_.mode() != mode_) return;
      const Status answered = answer(std::string(as_text(*message)));
      if (told_) told_();
      if (!answered || phone_.mode() != mode_) return;
    }
  }

 private:
  struct Row {
    std::string_view begins;
    Status (BootloaderSide::*act)(const std::string& command, const std::string& rest);
  };

  Status answer(const std::string& command) {
    static constexpr Row kRows[] = {
        {"getvar:", &BootloaderSide::getvar},
        {"download:", &BootloaderSide::download},
        {"upload", &BootloaderSide::upload},
        {"fetch:", &BootloaderSide::give_back},
        {"flash:", &BootloaderSide::flash},
        {"erase:", &BootloaderSide::erase},
        {"set_active:", &BootloaderSide::set_active},
        {"create-logical-partition:", &BootloaderSide::create},
        {"resize-logical-partition:", &BootloaderSide::resize},
        {"delete-logical-partition:", &BootloaderSide::drop},
        {"update-super:", &BootloaderSide::update_super},
        {"snapshot-update:", &BootloaderSide::snapshot},
        {"flashing ", &BootloaderSide::flashing},
        {"reboot-bootloader", &BootloaderSide::leave},
        {"reboot-fastboot", &BootloaderSide::leave},
        {"reboot-recovery", &BootloaderSide::leave},
        {"reboot", &BootloaderSide::restart},
        {"continue", &BootloaderSide::restart},
        {"boot", &BootloaderSide::boot},
    };
    for (const Row& row : kRows)
      if (command.starts_with(row.begins))
        return (this->*row.act)(command, command.substr(row.begins.size()));
    return say(ReplyWord::Fail, "unknown command");
  }

  Status say(ReplyWord word, std::string_view text) {
    return host_.send(write_reply(word, text.substr(0, kMostReply)));
  }

  /// What came of a command. A lost link or reply ends the conversation without a word.
  Status outcome(const Status& done) {
    if (done) return say(ReplyWord::Okay, "");
    const Error& why = done.error();
    if (why.code == ErrorCode::PhoneRefused) return say(ReplyWord::Fail, why.message);
    if (why.code == ErrorCode::LinkLost || why.code == ErrorCode::ReplyLost) return done;
    return say(ReplyWord::Fail, describe(why));
  }

  Status getvar(const std::string&, const std::string& name) {
    if (name == "all") {
      for (const auto& [one, value] : phone_.variables())
        WEXLO_CHECK(say(ReplyWord::Info, fmt::format("{}: {}", one, value)));
      return say(ReplyWord::Okay, "");
    }
    const auto value = phone_.variable(name);
    if (!value) return outcome(fail(value.error()));
    return *value ? say(ReplyWord::Okay, **value) : say(ReplyWord::Fail, "unknown variable");
  }

  Status download(const std::string&, const std::string& digits) {
    const auto size = parse_hex(digits);
    if (!size) return say(ReplyWord::Fail, "no size that can be read");
    if (const auto taken = phone_.may_download(*size); !taken) return outcome(taken);
    staged_.reset();
    WEXLO_TRY(const auto room, phone_.store().stage(*size));
    WEXLO_CHECK(say(ReplyWord::Data, fmt::format("{:08x}", *size)));
    WEXLO_CHECK(take(*room, *size));
    staged_ = room->source();
    return say(ReplyWord::Okay, "");
  }

  Status take(Staged& room, std::uint64_t size) {
    Bytes piece(static_cast<std::size_t>(std::min<std::uint64_t>(kPiece, size)));
    for (std::uint64_t at = 0; at < size;) {
      const auto part = static_cast<std::size_t>(std::min<std::uint64_t>(piece.size(), size - at));
      const auto arrives = phone_.faults.data(part);
      const std::size_t count = arrives ? static_cast<std::size_t>(*arrives) : part;
      WEXLO_CHECK(host_.receive_data(MutableView(piece).first(count)));
      if (arrives) return gone();
      WEXLO_CHECK(room.write_at(at, View(piece).first(count)));
      at += count;
      if (const auto slow = phone_.faults.milliseconds_a_mebibyte())
        std::this_thread::sleep_for(milliseconds(slow * part / kPiece));
    }
    return {};
  }

  static Status gone() {
    return fail({.code = ErrorCode::LinkLost, .message = "the cable is dead"});
  }

  Status send(const Source& source, std::uint64_t from, std::uint64_t size) {
    WEXLO_CHECK(say(ReplyWord::Data, fmt::format("{:08x}", size)));
    Bytes piece(static_cast<std::size_t>(std::min<std::uint64_t>(kPiece, size)));
    for (std::uint64_t at = 0; at < size;) {
      const MutableView part =
          MutableView(piece).first(std::min<std::uint64_t>(piece.size(), size - at));
      WEXLO_CHECK(source.read_at(from + at, part));
      at += part.size();
      WEXLO_CHECK(host_.send_data(part, at < size));
    }
    return say(ReplyWord::Okay, "");
  }

  Status upload(const std::string&, const std::string&) {
    if (staged_ == nullptr) return say(ReplyWord::Fail, "nothing was sent");
    return send(*staged_, 0, staged_->size());
  }

  Status give_back(const std::string&, const std::string& rest) {
    const std::vector<std::string> words = words_of(rest);
    const auto source = phone_.give_back(words.front());
    if (!source) return outcome(fail(source.error()));
    const std::uint64_t whole = (*source)->size();
    const auto from = words.size() > 1 ? parse_number(words[1]) : 0;
    if (!from || *from > whole) return say(ReplyWord::Fail, "no such offset");
    const auto size = words.size() > 2 ? parse_number(words[2]) : whole - *from;
    if (!size || *size > whole - *from) return say(ReplyWord::Fail, "no such size");
    if (*size > phone_.state.fetch_limit) return say(ReplyWord::Fail, "too large");
    return send(**source, *from, *size);
  }

  Status flash(const std::string&, const std::string& partition) {
    if (staged_ == nullptr) return say(ReplyWord::Fail, "nothing was sent");
    return outcome(phone_.flash(
        partition, {.name = "", .size = staged_->size(), .sha256 = {}, .bytes = staged_}));
  }
  Status erase(const std::string&, const std::string& partition) {
    return outcome(phone_.erase(partition));
  }
  Status set_active(const std::string&, const std::string& slot) {
    return outcome(phone_.choose_slot(slot));
  }
  Status drop(const std::string&, const std::string& partition) {
    return outcome(phone_.drop_logical(partition));
  }
  Status create(const std::string&, const std::string& rest) {
    return sized(rest, &SimulatedPhone::create_logical);
  }
  Status resize(const std::string&, const std::string& rest) {
    return sized(rest, &SimulatedPhone::resize_logical);
  }
  Status sized(const std::string& rest,
               Status (SimulatedPhone::*act)(const std::string&, std::uint64_t)) {
    const std::vector<std::string> words = words_of(rest);
    const auto size = words.size() == 2 ? parse_number(words[1]) : std::nullopt;
    if (!size) return say(ReplyWord::Fail, "a name and a size are wanted");
    return outcome((phone_.*act)(words[0], *size));
  }

  /// The tables alone: what partitions hold stays where it is.
  Status update_super(const std::string&, const std::string& rest) {
    if (staged_ == nullptr) return say(ReplyWord::Fail, "nothing was sent");
    const std::string name = words_of(rest).front();
    return outcome(phone_.update_super(name, staged_));
  }

  Status snapshot(const std::string&, const std::string& how) {
    return outcome(phone_.end_update(how));
  }

  Status flashing(const std::string&, const std::string& what) {
    if (what == "unlock") return outcome(phone_.flashing_lock(false));
    if (what == "lock") return outcome(phone_.flashing_lock(true));
    if (what == "get_unlock_ability") return say(ReplyWord::Okay, "1");
    if (what == "unlock_critical") return outcome(phone_.lock_critical(false));
    if (what == "lock_critical") return outcome(phone_.lock_critical(true));
    return say(ReplyWord::Fail, "unknown command");
  }

  Status leave(const std::string& command, const std::string&) {
    const PhoneMode to = command == "reboot-bootloader" ? PhoneMode::Bootloader
                         : command == "reboot-fastboot" ? PhoneMode::Userspace
                                                        : PhoneMode::Recovery;
    if (auto left = phone_.reboot(to, okay_); !left) return outcome(left);
    // The same mode again is another conversation, too.
    return to == mode_ ? gone() : Status();
  }
  Status restart(const std::string&, const std::string&) {
    const auto left = phone_.reboot(PhoneMode::System, okay_);
    return left ? left : outcome(left);
  }
  Status boot(const std::string&, const std::string&) {
    if (staged_ == nullptr) return say(ReplyWord::Fail, "nothing was sent");
    const auto started = phone_.start_once(staged_, okay_);
    return started ? started : outcome(started);
  }

  Link& host_;
  SimulatedPhone& phone_;
  std::mutex& turn_;
  const std::function<void()>& told_;
  PhoneMode mode_;
  SourcePtr staged_;
  /// The phone has taken an order, and is about to go.
  const SimulatedPhone::Answer okay_ = [this] { return say(ReplyWord::Okay, ""); };
};

}  // namespace

void serve_bootloader(Link& host, SimulatedPhone& phone, std::mutex& turn,
                      const std::function<void()>& told) {
  BootloaderSide(host, phone, turn, told).run();
}

}  // namespace wexlo
