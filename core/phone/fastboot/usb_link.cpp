#include <libusb-1.0/libusb.h>

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <optional>

#include "base/late_library.hpp"
#include "phone/fastboot/link.hpp"
#include "phone/fastboot/usb.hpp"

namespace wexlo {
namespace {

constexpr std::uint8_t kClass = 0xFF, kSubclass = 0x42, kProtocol = 0x03;
/// Bytes of one transfer: a whole number of packets at every speed.
constexpr std::size_t kTransfer = 256u << 10;

struct UsbLibrary {
  LateLibrary library{"libusb-1.0.so.0"};
  WEXLO_LATE(library, libusb_init);
  WEXLO_LATE(library, libusb_exit);
  WEXLO_LATE(library, libusb_get_device_list);
  WEXLO_LATE(library, libusb_free_device_list);
  WEXLO_LATE(library, libusb_ref_device);
  WEXLO_LATE(library, libusb_unref_device);
  WEXLO_LATE(library, libusb_get_device_descriptor);
  WEXLO_LATE(library, libusb_get_active_config_descriptor);
  WEXLO_LATE(library, libusb_free_config_descriptor);
  WEXLO_LATE(library, libusb_get_bus_number);
  WEXLO_LATE(library, libusb_get_port_numbers);
  WEXLO_LATE(library, libusb_open);
  WEXLO_LATE(library, libusb_close);
  WEXLO_LATE(library, libusb_claim_interface);
  WEXLO_LATE(library, libusb_release_interface);
  WEXLO_LATE(library, libusb_clear_halt);
  WEXLO_LATE(library, libusb_bulk_transfer);
  WEXLO_LATE(library, libusb_get_string_descriptor_ascii);
  WEXLO_LATE(library, libusb_error_name);
};

const UsbLibrary& usb() {
  static const UsbLibrary library;
  return library;
}

/// Where a bootloader speaks.
struct Place {
  int interface = 0;
  std::uint8_t in = 0, out = 0;  ///< endpoints
  std::uint8_t serial_index = 0;
  std::uint16_t vendor = 0;
};

std::optional<Place> place_in(const libusb_interface_descriptor& one) {
  if (one.bInterfaceClass != kClass || one.bInterfaceSubClass != kSubclass ||
      one.bInterfaceProtocol != kProtocol)
    return std::nullopt;
  Place out{.interface = one.bInterfaceNumber};
  for (int i = 0; i < one.bNumEndpoints; ++i) {
    const libusb_endpoint_descriptor& end = one.endpoint[i];
    if ((end.bmAttributes & LIBUSB_TRANSFER_TYPE_MASK) != LIBUSB_TRANSFER_TYPE_BULK) continue;
    const bool in = (end.bEndpointAddress & LIBUSB_ENDPOINT_DIR_MASK) == LIBUSB_ENDPOINT_IN;
    (in ? out.in : out.out) = end.bEndpointAddress;
  }
  return out.in != 0 && out.out != 0 ? std::optional(out) : std::nullopt;
}

std::optional<Place> place_on(libusb_device* device) {
  libusb_device_descriptor about{};
  libusb_config_descriptor* config = nullptr;
  if (usb().libusb_get_device_descriptor(device, &about) != 0 ||
      usb().libusb_get_active_config_descriptor(device, &config) != 0)
    return std::nullopt;
  std::optional<Place> out;
  for (int i = 0; i < config->bNumInterfaces && !out; ++i)
    for (int j = 0; j < config->interface[i].num_altsetting && !out; ++j)
      out = place_in(config->interface[i].altsetting[j]);
  usb().libusb_free_config_descriptor(config);
  if (out) {
    out->serial_index = about.iSerialNumber;
    out->vendor = about.idVendor;
  }
  return out;
}

std::string ports_of(libusb_device* device) {
  std::uint8_t ports[8];
  const int count = usb().libusb_get_port_numbers(device, ports, sizeof ports);
  std::string out = fmt::format("{}", usb().libusb_get_bus_number(device));
  for (int i = 0; i < count; ++i)
    out += fmt::format("{}{}", i == 0 ? '-' : '.', ports[i]);
  return out;
}

std::string serial_of(libusb_device_handle* handle, std::uint8_t index) {
  unsigned char text[256];
  const int size =
      index == 0 ? 0 : usb().libusb_get_string_descriptor_ascii(handle, index, text, sizeof text);
  return size > 0 ? std::string(reinterpret_cast<const char*>(text), static_cast<std::size_t>(size))
                  : "";
}

Error no_rights(const std::string& where) {
  return {.code = ErrorCode::Permission,
          .message = "this user may not use the phone",
          .file = where,
          .hint = fmt::format("Put this line into a file in /etc/udev/rules.d, and plug the phone "
                              "in again: {}",
                              kUsbRights)};
}

Error usb_error(std::string doing, int code, const std::string& where) {
  if (code == LIBUSB_ERROR_ACCESS) return no_rights(where);
  const bool gone = code == LIBUSB_ERROR_NO_DEVICE || code == LIBUSB_ERROR_PIPE ||
                    code == LIBUSB_ERROR_IO || code == LIBUSB_ERROR_TIMEOUT;
  return {.code = gone ? ErrorCode::LinkLost : ErrorCode::Io,
          .message = std::move(doing),
          .file = where,
          .found = usb().libusb_error_name(code),
          .hint = "Check the cable and the phone's screen; another program may hold the phone."};
}

/// The library's own state, and the devices of one look at the bus.
class Bus {
 public:
  Bus() = default;
  Bus(const Bus&) = delete;
  Bus& operator=(const Bus&) = delete;
  ~Bus() {
    if (list_ != nullptr) usb().libusb_free_device_list(list_, 1);
    if (context_ != nullptr) usb().libusb_exit(context_);
  }

  struct Found {
    libusb_device* device;
    Place place;
  };
  Result<std::vector<Found>> look() {
    WEXLO_CHECK(usb().library.status());
    if (const int failed = usb().libusb_init(&context_); failed != 0)
      return fail(usb_error("USB cannot be used", failed, "USB"));
    const ssize_t count = usb().libusb_get_device_list(context_, &list_);
    if (count < 0) return fail(usb_error("USB cannot be read", static_cast<int>(count), "USB"));
    std::vector<Found> out;
    for (ssize_t i = 0; i < count; ++i)
      if (const auto place = place_on(list_[i])) out.push_back({list_[i], *place});
    return out;
  }

 private:
  libusb_context* context_ = nullptr;
  libusb_device** list_ = nullptr;
};

class UsbLink final : public Link {
 public:
  UsbLink(std::string where, const Context& context, const Patience& patience)
      : where_(std::move(where)), context_(context), patience_(patience) {}
  ~UsbLink() override {
    if (handle_ == nullptr) return;
    usb().libusb_release_interface(handle_, place_.interface);
    usb().libusb_close(handle_);
  }

  /// @param serial  empty: the only one there
  Status open(const std::string& serial) {
    WEXLO_TRY(const auto all, bus_.look());
    std::optional<int> failed;
    std::vector<std::string> there;
    for (const Bus::Found& one : all) {
      libusb_device_handle* handle = nullptr;
      if (const int code = usb().libusb_open(one.device, &handle); code != 0) {
        failed = code;
        continue;
      }
      there.push_back(serial_of(handle, one.place.serial_index));
      const bool wanted = serial.empty() || there.back() == serial;
      if (wanted && handle_ == nullptr) {
        handle_ = handle;
        place_ = one.place;
      } else {
        usb().libusb_close(handle);
      }
    }
    if (handle_ == nullptr && failed)
      return fail(usb_error("the phone cannot be opened", *failed, where_));
    if (serial.empty() && there.size() > 1)
      return fail({.code = ErrorCode::Ambiguous,
                   .message = "several phones are connected",
                   .file = where_,
                   .expected = "one",
                   .found = fmt::format("{}", fmt::join(there, ", ")),
                   .hint = "Name the one that is meant: fastboot+usb://SERIAL"});
    if (handle_ == nullptr) return fail(lost("no phone at its bootloader is connected"));
    if (const int code = usb().libusb_claim_interface(handle_, place_.interface); code != 0)
      return fail(usb_error("the phone cannot be used", code, where_));
    return {};
  }

  Status send(View message) override { return send_data(message, false); }

  Status send_data(View bytes, bool) override {
    return moved(place_.out, patience_.reply, bytes.size(), [&](std::size_t at, std::size_t size) {
      return std::pair(const_cast<std::byte*>(bytes.data()) + at, size);
    });
  }

  /// A reply is one transfer; an empty one is none.
  Result<Bytes> receive() override {
    const auto until = std::chrono::steady_clock::now() + patience_.reply;
    Bytes out(kMaxMessage);
    for (;;) {
      WEXLO_CHECK(check_stop(context_));
      int size = 0;
      const int code = transfer(place_.in, out.data(), out.size(), size);
      if (size > 0) {
        out.resize(static_cast<std::size_t>(size));
        return out;
      }
      if (code != 0 && code != LIBUSB_ERROR_TIMEOUT)
        return fail(usb_error("the link to the phone was lost", code, where_));
      if (std::chrono::steady_clock::now() > until) return fail(lost("it says nothing more"));
    }
  }

  Status receive_data(MutableView out) override {
    return moved(place_.in, patience_.reply, out.size(), [&](std::size_t at, std::size_t size) {
      return std::pair(out.data() + at, size);
    });
  }

  void bear_silence(milliseconds limit) override { patience_.reply = limit; }

 private:
  [[nodiscard]] Error lost(const std::string& why) const {
    return {.code = ErrorCode::LinkLost,
            .message = fmt::format("the link to the phone was lost: {}", why),
            .file = where_,
            .hint = "Is the phone at its bootloader, and does the cable sit well?"};
  }

  /// One transfer, waited for a second at most: a stop is asked for between two of them.
  int transfer(std::uint8_t endpoint, std::byte* bytes, std::size_t size, int& done) {
    constexpr unsigned kSlice = 1000;
    return usb().libusb_bulk_transfer(handle_, endpoint, reinterpret_cast<unsigned char*>(bytes),
                                      static_cast<int>(size), &done, kSlice);
  }

  /// All bytes, transfer by transfer. What stalls once is tried again.
  template <class Part>
  Status moved(std::uint8_t endpoint, milliseconds limit, std::size_t whole, Part part) {
    auto until = std::chrono::steady_clock::now() + limit;
    bool stalled = false;
    for (std::size_t at = 0; at < whole;) {
      WEXLO_CHECK(check_stop(context_));
      const auto [bytes, size] = part(at, std::min(kTransfer, whole - at));
      int done = 0;
      const int code = transfer(endpoint, bytes, size, done);
      at += static_cast<std::size_t>(std::max(done, 0));
      if (done > 0) until = std::chrono::steady_clock::now() + limit;
      if (code == LIBUSB_ERROR_PIPE && !std::exchange(stalled, true)) {
        usb().libusb_clear_halt(handle_, endpoint);
        continue;
      }
      if (code != 0 && code != LIBUSB_ERROR_TIMEOUT)
        return fail(usb_error("the link to the phone was lost", code, where_));
      if (std::chrono::steady_clock::now() > until) return fail(lost("nothing moves any more"));
    }
    return {};
  }

  std::string where_;
  Context context_;
  Patience patience_;
  Bus bus_;
  libusb_device_handle* handle_ = nullptr;
  Place place_;
};

}  // namespace

Result<LinkPtr> connect_usb(const PhoneAddress& address, const Context& context,
                            const Patience& patience) {
  WEXLO_CHECK(check_stop(context));
  auto link = std::make_unique<UsbLink>(address_text(address), context, patience);
  WEXLO_CHECK(link->open(address.serial));
  return link;
}

Result<std::vector<UsbPhone>> usb_phones() {
  Bus bus;
  WEXLO_TRY(const auto all, bus.look());
  std::vector<UsbPhone> out;
  for (const Bus::Found& one : all) {
    UsbPhone phone{.place = ports_of(one.device), .vendor = one.place.vendor};
    libusb_device_handle* handle = nullptr;
    const int code = usb().libusb_open(one.device, &handle);
    phone.needs_rights = code == LIBUSB_ERROR_ACCESS;
    if (code == 0) {
      phone.serial = serial_of(handle, one.place.serial_index);
      usb().libusb_close(handle);
    }
    out.push_back(std::move(phone));
  }
  return out;
}

}  // namespace wexlo
