#include "phone/command.hpp"

#include <fmt/format.h>

#include <array>
#include <set>

namespace wexlo {
namespace {

constexpr std::size_t kMaxCommand = 64, kMaxText = 4u << 20;

/// What a sheet is made of, for a bootloader that does not tell all at once, or only some.
constexpr std::array kAsked{"product",
                            "variant",
                            "version-bootloader",
                            "version-baseband",
                            "unlocked",
                            "slot-count",
                            "current-slot",
                            "max-download-size",
                            "battery-voltage",
                            "battery-soc-ok",
                            "snapshot-update-status",
                            "anti",
                            "super-partition-name"};
constexpr std::array kSized{"boot",   "init_boot",     "vendor_boot",   "recovery", "dtbo",
                            "vbmeta", "vbmeta_system", "vbmeta_vendor", "userdata", "super"};

bool is_absent(const Error& error) {
  return error.code == ErrorCode::PhoneRefused;
}

/// The variable's name in a line of `getvar:all`: up to its last colon, as the names of some hold
/// one.
std::string name_in(const std::string& line) {
  return line.substr(0, std::min(line.rfind(':'), line.size()));
}

class Asker {
 public:
  Asker(Link& link, const Context& context) : link_(link), context_(context) {}

  Result<std::string> run() {
    auto all = ask_phone(link_, "getvar:all");
    if (!all && !is_absent(all.error())) return fail(std::move(all).error());
    if (all)
      for (const std::string& line : all->lines) {
        told_.insert(name_in(line));
        text_ += line + "\n";
      }
    for (const char* name : kAsked)
      WEXLO_CHECK(ask(name));
    for (const char* partition : kSized)
      WEXLO_CHECK(ask_size(partition));
    return std::move(text_);
  }

 private:
  /// @return whether there is a value
  Result<bool> ask(const std::string& name) {
    if (told_.contains(name)) return true;
    WEXLO_CHECK(check_stop(context_));
    const auto reply = ask_phone(link_, "getvar:" + name);
    if (!reply && is_absent(reply.error())) return false;
    if (!reply) return fail(reply.error());
    if (reply->text.empty()) return false;
    // A value is one line, whatever the phone sends.
    text_ += fmt::format("{}: {}\n", name, reply->text.substr(0, reply->text.find('\n')));
    return true;
  }

  /// Of both slots, where it has two; without a slot's letter the current one's is meant.
  Status ask_size(const std::string& partition) {
    bool slotted = false;
    for (const char* suffix : {"_a", "_b"}) {
      WEXLO_TRY(const bool there, ask("partition-size:" + partition + suffix));
      slotted = slotted || there;
      if (!there) break;
    }
    if (slotted) return {};
    WEXLO_TRY([[maybe_unused]] const bool there, ask("partition-size:" + partition));
    return {};
  }

  Link& link_;
  const Context& context_;
  std::set<std::string> told_;
  std::string text_;
};

}  // namespace

Result<PhoneReply> ask_phone(Link& link, std::string_view command) {
  if (command.size() > kMaxCommand)
    return fail({.code = ErrorCode::Usage,
                 .message = "the command is longer than bootloaders take",
                 .expected = fmt::format("at most {} bytes", kMaxCommand),
                 .found = std::string(command)});
  WEXLO_CHECK(link.send(as_view(command)));
  PhoneReply out;
  std::size_t size = 0;
  for (bool goes_on = false;;) {
    WEXLO_TRY(const Bytes message, link.receive());
    const std::string_view text = as_text(message);
    const std::string_view word = text.substr(0, 4);
    const std::string rest(text.substr(word.size()));
    if (word == "OKAY") {
      out.text = rest;
      return out;
    }
    if (word == "FAIL")
      return fail({.code = ErrorCode::PhoneRefused,
                   .message = fmt::format("the phone refused {}", command),
                   .found = rest});
    if (word != "INFO" && word != "TEXT")
      return fail(
          {.code = ErrorCode::LinkLost,
           .message = fmt::format("the phone's reply to {} is none of the protocol", command),
           .expected = "OKAY, FAIL or INFO",
           .found = std::string(word)});
    size += text.size();
    if (size > kMaxText)
      return fail({.code = ErrorCode::LimitExceeded,
                   .message = fmt::format("the phone's reply to {} has no end", command),
                   .expected = fmt::format("at most {} bytes", kMaxText)});
    // TEXT has no line end of its own: what follows it goes on there.
    if (goes_on && word == "TEXT")
      out.lines.back() += rest;
    else
      out.lines.push_back(rest);
    goes_on = word == "TEXT";
  }
}

Result<std::string> phone_variables(Link& link, const Context& context) {
  return Asker(link, context).run();
}

}  // namespace wexlo
