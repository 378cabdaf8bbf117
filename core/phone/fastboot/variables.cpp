/// What a bootloader tells of its phone.

#include <fmt/format.h>

#include <array>
#include <set>

#include "phone/fastboot/command.hpp"

namespace wexlo {
namespace {

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

/// The variable's name in a line of `getvar:all`: up to its last colon, as the names of some hold
/// one.
std::string name_in(const std::string& line) {
  return line.substr(0, std::min(line.rfind(':'), line.size()));
}

class Asker {
 public:
  Asker(Link& link, const Context& context) : link_(link), context_(context) {}

  Result<std::string> run() {
    // Some servers have no way to say so much, and answer with a word of their own: then each is
    // asked for.
    auto all = ask_phone(link_, "getvar:all", Foreign::Ends);
    if (!all && all.error().code != ErrorCode::PhoneRefused) return fail(std::move(all).error());
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
    WEXLO_TRY(const auto value, phone_variable(link_, name));
    if (!value) return false;
    text_ += fmt::format("{}: {}\n", name, *value);
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

Result<std::string> phone_variables(Link& link, const Context& context) {
  return Asker(link, context).run();
}

}  // namespace wexlo
