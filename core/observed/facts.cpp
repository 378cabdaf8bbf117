/// The words of what was seen, one table each.

#include <fmt/format.h>

#include <array>

#include "observed/observed.hpp"

namespace wexlo {
namespace {

struct KindRow {
  std::string_view word, about;
};
/// In the order of the enum.
constexpr std::array<KindRow, 12> kKinds{{
    {"property", "properties of the system"},
    {"variable", "variables of the bootloader"},
    {"command-line", "command line of the kernel"},
    {"boot-configuration", "boot configuration"},
    {"kernel", "name and build of the kernel"},
    {"mount", "mounted file systems"},
    {"user", "the user of a shell"},
    {"answer", "answers to a command"},
    {"setting", "settings"},
    {"log", "log"},
    {"typed", "commands that were typed"},
    {"unknown", "not known"},
}};

struct FactRow {
  std::string_view word, about, question;
};
constexpr std::array<FactRow, 21> kFactRows{{
    {"serial", "serial number", "getprop ro.serialno"},
    {"device", "device", "getprop ro.product.device"},
    {"product", "product, as the bootloader calls it", ""},
    {"variant", "variant", ""},
    {"fingerprint", "build", "getprop ro.build.fingerprint"},
    {"patch-level", "security patch level", "getprop ro.build.version.security_patch"},
    {"slot", "slot", "getprop ro.boot.slot_suffix"},
    {"lock", "lock state", "getprop ro.boot.vbmeta.device_state"},
    {"verified-state", "state of verified boot", "getprop ro.boot.verifiedbootstate"},
    {"update", "over-the-air update", ""},
    {"mode", "what runs", ""},
    {"kernel", "kernel", "uname -a"},
    {"kernel-build", "build of the kernel", "uname -a"},
    {"selinux", "SELinux", "getenforce"},
    {"encryption", "encryption", "getprop ro.crypto.state"},
    {"started", "start of the system", "getprop sys.boot_completed"},
    {"user", "user of the shell", "id"},
    {"set-up", "first set-up", "settings get secure user_setup_complete"},
    {"data", "the user's data", "settings get secure user_setup_complete"},
    {"updates", "automatic updates", "settings get global ota_disable_automatic_update"},
    {"page-size", "page size", "getconf PAGE_SIZE"},
}};

}  // namespace

std::string_view line_kind_word(LineKind kind) {
  return kKinds[static_cast<std::size_t>(kind)].word;
}
std::string_view line_kind_about(LineKind kind) {
  return kKinds[static_cast<std::size_t>(kind)].about;
}
std::string_view fact_word(Fact fact) {
  return kFactRows[static_cast<std::size_t>(fact)].word;
}
std::string_view fact_about(Fact fact) {
  return kFactRows[static_cast<std::size_t>(fact)].about;
}
std::string_view fact_question(Fact fact) {
  return kFactRows[static_cast<std::size_t>(fact)].question;
}

std::string SeenAt::text() const {
  return line == 0 ? file : fmt::format("{}:{}", file, line);
}

const Seen* Observed::find(Fact fact) const {
  const auto at = facts.find(fact);
  if (at == facts.end() || at->second.empty() || conflict(fact)) return nullptr;
  return &at->second.back();
}

std::optional<std::pair<Seen, Seen>> Observed::conflict(Fact fact) const {
  const auto at = facts.find(fact);
  if (at == facts.end()) return std::nullopt;
  for (const Seen& one : at->second)
    if (one.value != at->second.front().value) return std::pair{at->second.front(), one};
  return std::nullopt;
}

const Seen* Observed::find_line(std::string_view text) const {
  for (const Seen& line : lines)
    if (line.value.find(text) != line.value.npos) return &line;
  return nullptr;
}

}  // namespace wexlo
