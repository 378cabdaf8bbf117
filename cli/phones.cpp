#include <fmt/format.h>

#include "commands.hpp"
#include "options.hpp"
#include "phone/fastboot/fastboot_phone.hpp"
#include "phone/fastboot/usb.hpp"
#include "reply.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

struct PhonesArguments {
  std::vector<std::string> addresses;
};

/// One place where a phone is, or should be.
struct Row {
  std::string address, protocol = "bootloader", mode, serial, product, lock, slot, trouble;
  bool needs_rights = false;
};

std::string text_or(const Result<std::optional<std::string>>& value) {
  return value && *value ? **value : std::string();
}

/// What the phone tells; a phone that does not answer has its reason in the row.
Row asked(const PhoneAddress& address, const Context& context) {
  Row out{.address = address_text(address)};
  PhoneWaits waits;
  waits.link.connect = milliseconds(3000);
  FastbootPhone phone({address}, context, waits);
  if (const auto reached = phone.attach(); !reached) {
    out.trouble = reached.error().message;
    out.needs_rights = reached.error().code == ErrorCode::Permission;
    return out;
  }
  out.mode = phone_mode_word(phone.mode());
  out.serial = phone.serial();
  out.product = text_or(phone.variable("product"));
  out.slot = text_or(phone.variable("current-slot"));
  const std::string unlocked = text_or(phone.variable("unlocked"));
  out.lock = unlocked == "yes" ? "unlocked" : unlocked == "no" ? "locked" : "";
  return out;
}

Json row_json(const Row& row) {
  const auto known = [](const std::string& text) { return text.empty() ? Json() : Json(text); };
  return {{"address", row.address},           {"protocol", row.protocol},
          {"answers", row.trouble.empty()},   {"mode", known(row.mode)},
          {"serial", known(row.serial)},      {"product", known(row.product)},
          {"lock", known(row.lock)},          {"slot", known(row.slot)},
          {"needs_rights", row.needs_rights}, {"trouble", known(row.trouble)}};
}

/// Those over USB. @param trouble  why USB was not looked at; empty: it was
std::vector<Row> over_usb(const Context& context, std::string& trouble) {
  std::vector<Row> out;
  const auto found = usb_phones();
  if (!found) {
    trouble = found.error().message;
    return out;
  }
  for (const UsbPhone& one : *found) {
    const PhoneAddress address{.wire = Wire::Usb, .host = {}, .serial = one.serial};
    if (one.needs_rights) {
      out.push_back({.address = fmt::format("USB {}", one.place),
                     .trouble = "this user may not use it",
                     .needs_rights = true});
      continue;
    }
    out.push_back(asked(address, context));
  }
  return out;
}

Result<Reply> run_phones(const PhonesArguments& options, const Session& session) {
  std::vector<Row> rows;
  std::string usb_trouble;
  for (const std::string& one : options.addresses) {
    WEXLO_TRY(const PhoneAddress address, parse_address(one));
    rows.push_back(asked(address, session.context));
    WEXLO_CHECK(check_stop(session.context));
  }
  if (options.addresses.empty()) rows = over_usb(session.context, usb_trouble);
  Reply reply;
  Json list = Json::array();
  Table table({"phone", "mode", "serial", "product", "lock", "slot", ""});
  std::size_t answering = 0;
  bool rights = false;
  for (const Row& row : rows) {
    list.push_back(row_json(row));
    answering += row.trouble.empty() ? 1 : 0;
    rights = rights || row.needs_rights;
    table.row({row.address, row.mode, printable(row.serial), printable(row.product), row.lock,
               printable(row.slot), session.paint.warning(printable(row.trouble))});
  }
  reply.result = {{"phones", std::move(list)},
                  {"usb_trouble", usb_trouble.empty() ? Json() : Json(usb_trouble)}};
  if (!rows.empty())
    reply.text = session.paint.heading("Phones") + "\n" + table.text(session.paint);
  if (rows.empty())
    reply.text = usb_trouble.empty()
                     ? "No phone at its bootloader is connected over USB. Bring it there by its "
                       "keys, or give an address: wexlo phones fastboot+tcp://HOST\n"
                     : fmt::format("USB was not looked at: {}\n", usb_trouble);
  if (rights)
    reply.ending = fmt::format(
        "\nTo use phones without being root, put this line into a file in "
        "/etc/udev/rules.d and plug the phone in again:\n  {}\n",
        kUsbRights);
  if (answering < options.addresses.size())
    reply.refusal = Error{.code = ErrorCode::LinkLost,
                          .message = "not every phone that was asked answers",
                          .expected = counted(options.addresses.size(), "phone"),
                          .found = fmt::format("{}", answering),
                          .hint = "Is the phone at its bootloader, and is the address right?"};
  return reply;
}

}  // namespace

void add_phones(Commands& commands, Session& session, int& exit_code) {
  auto options = std::make_shared<PhonesArguments>();
  Command(commands, "phones")
      .operand("ADDRESS", options->addresses,
               "Where to ask: fastboot+tcp://HOST:PORT; without it, all that is connected over USB",
               Need::Optional)
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "phones", run_phones(*options, session));
      });
}

}  // namespace wexlo::cli
