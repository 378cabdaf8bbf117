/// A stand-in for libusb: its functions, answered by a simulated phone that listens over TCP. The
/// program loads it in the place of the library, so that its own code is what is tested.
///
/// WEXLO_USB_PHONES lists devices, parted by blanks: `PORT:SERIAL`, `PORT:SERIAL:denied` (may not
/// be opened), `0:NAME` (a device of another kind).

#include <arpa/inet.h>
#include <libusb-1.0/libusb.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <cstring>
#include <sstream>
#include <string>
#include <vector>

struct libusb_context {};
struct libusb_device {
  int port = 0;
  std::string serial;
  bool denied = false;
};
struct libusb_device_handle {
  libusb_device* device = nullptr;
  int socket = -1;
  std::vector<unsigned char> waiting;  ///< of a message that was larger than a transfer
};

namespace {

std::vector<libusb_device>& devices() {
  static std::vector<libusb_device> all = [] {
    std::vector<libusb_device> out;
    const char* const text = std::getenv("WEXLO_USB_PHONES");
    std::istringstream words(text == nullptr ? "" : text);
    for (std::string word; words >> word;) {
      libusb_device one;
      const auto first = word.find(':'), second = word.find(':', first + 1);
      one.port = std::atoi(word.substr(0, first).c_str());
      one.serial = word.substr(first + 1, second - first - 1);
      one.denied = second != word.npos;
      out.push_back(one);
    }
    return out;
  }();
  return all;
}

bool read_all(int from, unsigned char* out, std::size_t size) {
  for (std::size_t at = 0; at < size;) {
    const ssize_t got = ::recv(from, out + at, size - at, 0);
    if (got <= 0) return false;
    at += static_cast<std::size_t>(got);
  }
  return true;
}
bool write_all(int to, const unsigned char* bytes, std::size_t size) {
  for (std::size_t at = 0; at < size;) {
    const ssize_t put = ::send(to, bytes + at, size - at, MSG_NOSIGNAL);
    if (put <= 0) return false;
    at += static_cast<std::size_t>(put);
  }
  return true;
}

/// The next message; what does not fit stays for the next transfer.
int read_transfer(libusb_device_handle& handle, unsigned char* out, int room, int* done,
                  unsigned timeout) {
  if (handle.waiting.empty()) {
    pollfd wait{handle.socket, POLLIN, 0};
    if (::poll(&wait, 1, static_cast<int>(timeout)) == 0) return LIBUSB_ERROR_TIMEOUT;
    unsigned char head[8];
    if (!read_all(handle.socket, head, sizeof head)) return LIBUSB_ERROR_NO_DEVICE;
    std::size_t size = 0;
    for (const unsigned char one : head)
      size = size << 8 | one;
    handle.waiting.resize(size);
    if (!read_all(handle.socket, handle.waiting.data(), size)) return LIBUSB_ERROR_NO_DEVICE;
  }
  const std::size_t count =
      std::min<std::size_t>(handle.waiting.size(), static_cast<std::size_t>(room));
  std::copy_n(handle.waiting.begin(), count, out);
  handle.waiting.erase(handle.waiting.begin(),
                       handle.waiting.begin() + static_cast<std::ptrdiff_t>(count));
  *done = static_cast<int>(count);
  return 0;
}

const libusb_endpoint_descriptor kEnds[] = {
    {.bEndpointAddress = 0x81, .bmAttributes = LIBUSB_TRANSFER_TYPE_BULK, .wMaxPacketSize = 512},
    {.bEndpointAddress = 0x02, .bmAttributes = LIBUSB_TRANSFER_TYPE_BULK, .wMaxPacketSize = 512}};
/// One of another protocol in front, as phones have it.
const libusb_interface_descriptor kOther{.bInterfaceNumber = 0,
                                         .bNumEndpoints = 2,
                                         .bInterfaceClass = 0xFF,
                                         .bInterfaceSubClass = 0x42,
                                         .bInterfaceProtocol = 0x01,
                                         .endpoint = kEnds};
const libusb_interface_descriptor kBootloader{.bInterfaceNumber = 1,
                                              .bNumEndpoints = 2,
                                              .bInterfaceClass = 0xFF,
                                              .bInterfaceSubClass = 0x42,
                                              .bInterfaceProtocol = 0x03,
                                              .endpoint = kEnds};
const libusb_interface kInterfaces[] = {{&kOther, 1}, {&kBootloader, 1}};
libusb_config_descriptor phone_config{.bNumInterfaces = 2, .interface = kInterfaces};
libusb_config_descriptor other_config{.bNumInterfaces = 1, .interface = kInterfaces};
libusb_context the_context;

}  // namespace

extern "C" {

int libusb_init(libusb_context** context) {
  *context = &the_context;
  return 0;
}
void libusb_exit(libusb_context*) {}
ssize_t libusb_get_device_list(libusb_context*, libusb_device*** list) {
  *list = new libusb_device*[devices().size() + 1]();
  for (std::size_t i = 0; i < devices().size(); ++i)
    (*list)[i] = &devices()[i];
  return static_cast<ssize_t>(devices().size());
}
void libusb_free_device_list(libusb_device** list, int) {
  delete[] list;
}
libusb_device* libusb_ref_device(libusb_device* device) {
  return device;
}
void libusb_unref_device(libusb_device*) {}
int libusb_get_device_descriptor(libusb_device* device, libusb_device_descriptor* out) {
  std::memset(out, 0, sizeof *out);
  out->idVendor = 0x1234;
  out->iSerialNumber = device->serial.empty() ? 0 : 3;
  return 0;
}
int libusb_get_active_config_descriptor(libusb_device* device, libusb_config_descriptor** out) {
  *out = device->port == 0 ? &other_config : &phone_config;
  return 0;
}
void libusb_free_config_descriptor(libusb_config_descriptor*) {}
std::uint8_t libusb_get_bus_number(libusb_device*) {
  return 1;
}
int libusb_get_port_numbers(libusb_device*, std::uint8_t* ports, int) {
  ports[0] = 4;
  ports[1] = 2;
  return 2;
}
int libusb_open(libusb_device* device, libusb_device_handle** out) {
  if (device->denied) return LIBUSB_ERROR_ACCESS;
  const int fd = ::socket(AF_INET, SOCK_STREAM, 0);
  sockaddr_in to{};
  to.sin_family = AF_INET;
  to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  to.sin_port = htons(static_cast<std::uint16_t>(device->port));
  unsigned char greeting[4];
  if (::connect(fd, reinterpret_cast<sockaddr*>(&to), sizeof to) != 0 ||
      !write_all(fd, reinterpret_cast<const unsigned char*>("FB01"), 4) ||
      !read_all(fd, greeting, sizeof greeting)) {
    ::close(fd);
    return LIBUSB_ERROR_NO_DEVICE;
  }
  *out = new libusb_device_handle{device, fd, {}};
  return 0;
}
void libusb_close(libusb_device_handle* handle) {
  ::close(handle->socket);
  delete handle;
}
int libusb_claim_interface(libusb_device_handle*, int number) {
  return number == 1 ? 0 : LIBUSB_ERROR_NOT_FOUND;
}
int libusb_release_interface(libusb_device_handle*, int) {
  return 0;
}
int libusb_clear_halt(libusb_device_handle*, unsigned char) {
  return 0;
}
int libusb_bulk_transfer(libusb_device_handle* handle, unsigned char endpoint, unsigned char* data,
                         int length, int* done, unsigned timeout) {
  *done = 0;
  if (endpoint == 0x81) return read_transfer(*handle, data, length, done, timeout);
  if (endpoint != 0x02) return LIBUSB_ERROR_NOT_FOUND;
  unsigned char head[8]{};
  for (int i = 0; i < 8; ++i)
    head[7 - i] = static_cast<unsigned char>(static_cast<std::uint64_t>(length) >> (8 * i));
  if (!write_all(handle->socket, head, sizeof head) ||
      !write_all(handle->socket, data, static_cast<std::size_t>(length)))
    return LIBUSB_ERROR_NO_DEVICE;
  *done = length;
  return 0;
}
int libusb_get_string_descriptor_ascii(libusb_device_handle* handle, std::uint8_t,
                                       unsigned char* out, int room) {
  const std::string& serial = handle->device->serial;
  const int size = std::min(room, static_cast<int>(serial.size()));
  std::memcpy(out, serial.data(), static_cast<std::size_t>(size));
  return size;
}
const char* libusb_error_name(int) {
  return "LIBUSB_ERROR_STANDIN";
}

}  // extern "C"
