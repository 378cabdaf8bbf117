#include "support/wire_phone.hpp"

#include <arpa/inet.h>
#include <sys/socket.h>
#include <unistd.h>

#include <array>
#include <deque>

#include "support/bytes.hpp"

namespace wexlo::test {
namespace {

bool read_all(int from, char* out, std::size_t size) {
  for (std::size_t at = 0; at < size;) {
    const ssize_t got = ::recv(from, out + at, size - at, 0);
    if (got <= 0) return false;
    at += static_cast<std::size_t>(got);
  }
  return true;
}
void write_all(int to, const std::string& bytes) {
  // In two pieces: nobody may rely on getting a message at once.
  const std::size_t half = bytes.size() / 2;
  [[maybe_unused]] auto sent = ::send(to, bytes.data(), half, MSG_NOSIGNAL);
  sent = ::send(to, bytes.data() + half, bytes.size() - half, MSG_NOSIGNAL);
}

/// The state of one host's packets.
struct Conversation {
  std::uint16_t expected = 0;
  std::string command, last;
  std::deque<std::string> waiting;
};

std::uint16_t number_at(const std::string& packet, std::size_t at) {
  return static_cast<std::uint16_t>(static_cast<unsigned char>(packet[at]) << 8 |
                                    static_cast<unsigned char>(packet[at + 1]));
}
std::string be16(std::uint16_t value) {
  return {static_cast<char>(value >> 8), static_cast<char>(value & 0xff)};
}

}  // namespace

WirePhone::WirePhone(Wire wire, WireHabits habits) : wire_(wire), habits_(std::move(habits)) {
  socket_ = ::socket(AF_INET, wire == Wire::Tcp ? SOCK_STREAM : SOCK_DGRAM, 0);
  sockaddr_in at{};
  at.sin_family = AF_INET;
  at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  socklen_t size = sizeof at;
  if (::bind(socket_, reinterpret_cast<sockaddr*>(&at), size) != 0 ||
      ::getsockname(socket_, reinterpret_cast<sockaddr*>(&at), &size) != 0)
    throw std::runtime_error("no port to listen at");
  port_ = ntohs(at.sin_port);
  if (wire == Wire::Tcp) ::listen(socket_, 4);
  thread_ = std::thread([this] { wire_ == Wire::Tcp ? serve_tcp() : serve_udp(); });
}

WirePhone::~WirePhone() {
  // What waits at the socket wakes up: an end of the stream, or a packet that says so.
  if (wire_ == Wire::Tcp) {
    ::shutdown(socket_, SHUT_RDWR);
  } else {
    sockaddr_in to{};
    to.sin_family = AF_INET;
    to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    to.sin_port = htons(port_);
    ::sendto(socket_, "stop!", 5, 0, reinterpret_cast<sockaddr*>(&to), sizeof to);
  }
  thread_.join();
  ::close(socket_);
}

PhoneAddress WirePhone::address() const {
  return {.wire = wire_, .host = "127.0.0.1", .port = port_, .serial = {}};
}

std::vector<std::string> WirePhone::answers(const std::string& command) const {
  if (!habits_.replies.empty()) return habits_.replies;
  if (command == "getvar:all" && !habits_.word_for_all.empty()) return {habits_.word_for_all};
  if (command == "getvar:all" && habits_.tells_all) {
    std::vector<std::string> out;
    for (const auto& [name, value] : habits_.variables)
      out.push_back("INFO" + name + ": " + value);
    out.emplace_back("OKAY");
    return out;
  }
  const auto at = command.starts_with("getvar:") ? habits_.variables.find(command.substr(7))
                                                 : habits_.variables.end();
  if (at == habits_.variables.end()) return {"FAILunknown variable"};
  return {"OKAY" + at->second};
}

void WirePhone::serve_tcp() {
  unsigned calls = 0;
  for (int to; (to = ::accept(socket_, nullptr, nullptr)) >= 0; ::close(to)) {
    if (habits_.greeting.empty()) continue;
    std::array<char, 8> head{};
    if (calls++ < habits_.deaf_calls) {
      while (read_all(to, head.data(), 1)) {
      }
      continue;
    }
    write_all(to, habits_.greeting);
    if (!read_all(to, head.data(), 4)) continue;
    bool raw = !habits_.raw.empty();
    while (read_all(to, head.data(), 8)) {
      std::string command(static_cast<unsigned char>(head[7]), '\0');
      if (!read_all(to, command.data(), command.size())) break;
      if (std::exchange(raw, false)) {
        write_all(to, habits_.raw);
        break;
      }
      for (const std::string& one : answers(command))
        write_all(to, be64(one.size()) + one);
    }
  }
}

void WirePhone::serve_udp() {
  Conversation with;
  with.expected = habits_.first_number;
  auto thinks = habits_.thinks;
  unsigned counted = 0;
  const auto lost = [&] {
    return habits_.loses_every != 0 && ++counted % habits_.loses_every == 0;
  };
  std::array<char, 65536> room{};
  sockaddr_in from{};
  for (;;) {
    socklen_t size = sizeof from;
    const ssize_t got =
        ::recvfrom(socket_, room.data(), room.size(), 0, reinterpret_cast<sockaddr*>(&from), &size);
    const std::string packet(room.data(), got > 0 ? static_cast<std::size_t>(got) : 0);
    if (packet == "stop!") return;
    ++packets_;
    if (packet.size() < 4 || lost()) continue;
    const char kind = packet[0];
    const std::string data = packet.substr(4);
    std::string reply;
    if (kind == 1) {
      reply = packet.substr(0, 4) + be16(with.expected);
    } else if (number_at(packet, 2) == with.expected) {
      ++with.expected;
      char flags = 0;
      std::string back;
      if (kind == 2) {
        back = be16(1) + be16(habits_.packet);
      } else if (!data.empty()) {
        with.command += data;
        std::this_thread::sleep_for(std::exchange(thinks, {}));
        if ((packet[1] & 1) == 0)
          for (const std::string& one : answers(std::exchange(with.command, {})))
            with.waiting.push_back(one);
      } else if (!with.waiting.empty()) {
        std::string& next = with.waiting.front();
        const std::size_t most = habits_.packet - 4u;
        back = next.substr(0, most);
        next.erase(0, back.size());
        flags = next.empty() ? 0 : 1;
        if (next.empty()) with.waiting.pop_front();
      }
      reply = std::string{kind, flags} + packet.substr(2, 2) + back;
      if (habits_.repeats && !with.last.empty())
        ::sendto(socket_, with.last.data(), with.last.size(), 0, reinterpret_cast<sockaddr*>(&from),
                 size);
      with.last = reply;
    } else if (static_cast<std::uint16_t>(number_at(packet, 2) + 1) == with.expected) {
      reply = with.last;
    } else {
      continue;
    }
    if (lost()) continue;
    ::sendto(socket_, reply.data(), reply.size(), 0, reinterpret_cast<sockaddr*>(&from), size);
  }
}

}  // namespace wexlo::test
