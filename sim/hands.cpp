#include "hands.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "phone/simulated/packages.hpp"

namespace wexlo::sim {
namespace {

struct Row {
  std::string_view word, operand, about;
  Result<std::string> (*act)(SimulatedPhone& phone, const std::string& rest);
};

Result<std::string> bring(SimulatedPhone& phone, PhoneMode mode) {
  phone.bring(mode);
  return fmt::format("the phone is in {}", phone_mode_word(phone.mode()));
}

constexpr Row kRows[] = {
    {"bootloader", "", "hold the keys that lead to the bootloader",
     [](SimulatedPhone& phone, const std::string&) { return bring(phone, PhoneMode::Bootloader); }},
    {"userspace", "", "choose the userspace mode in its menu",
     [](SimulatedPhone& phone, const std::string&) { return bring(phone, PhoneMode::Userspace); }},
    {"recovery", "", "hold the keys that lead to recovery",
     [](SimulatedPhone& phone, const std::string&) { return bring(phone, PhoneMode::Recovery); }},
    {"download", "", "hold the keys that lead to download mode",
     [](SimulatedPhone& phone, const std::string&) { return bring(phone, PhoneMode::Download); }},
    {"start", "", "switch it on",
     [](SimulatedPhone& phone, const std::string&) { return bring(phone, PhoneMode::System); }},
    {"unlock", "", "unlock the bootloader, which erases the user's data",
     [](SimulatedPhone& phone, const std::string&) -> Result<std::string> {
       phone.set_locked(false);
       return std::string("unlocked; the user's data is erased");
     }},
    {"lock", "", "lock it, which erases the user's data",
     [](SimulatedPhone& phone, const std::string&) -> Result<std::string> {
       phone.set_locked(true);
       return std::string("locked; the user's data is erased");
     }},
    {"wipe", "", "set it back to its factory state, in recovery's menu",
     [](SimulatedPhone& phone, const std::string&) -> Result<std::string> {
       phone.wipe_data();
       return std::string("the user's data is erased");
     }},
    {"install", "FILE", "install a package from recovery",
     [](SimulatedPhone& phone, const std::string& file) -> Result<std::string> {
       WEXLO_TRY(const SourcePtr package, open_file(file));
       WEXLO_TRY(const Installed done, install_package(phone, package));
       return done.said;
     }},
    {"hand-over", "FILE", "have the program for download mode write a tar",
     [](SimulatedPhone& phone, const std::string& file) -> Result<std::string> {
       WEXLO_TRY(const SourcePtr tar, open_file(file));
       WEXLO_TRY(const Installed done, take_download(phone, tar));
       return done.said;
     }},
    {"state", "", "tell what it is",
     [](SimulatedPhone& phone, const std::string&) -> Result<std::string> {
       return format_phone(phone.state);
     }},
};

}  // namespace

Result<std::string> do_by_hand(SimulatedPhone& phone, const std::string& line) {
  const std::size_t blank = line.find(' ');
  const std::string word = line.substr(0, blank);
  const std::string rest = blank == std::string::npos ? "" : line.substr(blank + 1);
  for (const Row& row : kRows) {
    if (row.word != word || row.operand.empty() != rest.empty()) continue;
    return row.act(phone, rest);
  }
  return fail({.code = ErrorCode::Usage,
               .message = "nobody does that by hand",
               .found = line,
               .hint = "help tells what there is"});
}

std::string hands_help() {
  std::string out;
  for (const Row& row : kRows)
    out += fmt::format(
        "  {:<16} {}\n",
        row.operand.empty() ? std::string(row.word) : fmt::format("{} {}", row.word, row.operand),
        row.about);
  return out + "  quit             end the program\n";
}

}  // namespace wexlo::sim
