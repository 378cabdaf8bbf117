/// Writing to a phone: against the plainest thing that moves the same bytes over the same wire into
/// a file.

#include <arpa/inet.h>
#include <fcntl.h>
#include <sys/resource.h>
#include <sys/socket.h>

#include <chrono>
#include <functional>
#include <thread>

#include "measure.hpp"
#include "phone/fastboot/fastboot_phone.hpp"
#include "phone/simulated/phone_server.hpp"

namespace wexlo::bench {
namespace fs = std::filesystem;
namespace {

using Seconds = std::chrono::duration<double>;

double timed(const std::function<void()>& work) {
  const auto begin = std::chrono::steady_clock::now();
  work();
  return Seconds(std::chrono::steady_clock::now() - begin).count();
}

[[noreturn]] void give_up(const std::string& why) {
  fmt::print(stderr, "{}\n", why);
  std::exit(1);
}

/// A simulated phone with one partition, a file in a folder, behind a wire.
class Served {
 public:
  Served(const fs::path& folder, Wire wire, std::uint64_t size) {
    fs::remove_all(folder);
    fs::create_directories(folder);
    auto store = std::make_unique<FolderStore>(folder);
    if (!store->add("system", size)) give_up("cannot make the phone");
    PhoneState state;
    state.mode = PhoneMode::Bootloader;
    state.slotted = false;
    state.gives_back = ReadingBack::Nowhere;
    state.download_limit = kMaxDownload;
    phone_ = std::make_unique<SimulatedPhone>(state, std::move(store));
    server_ = std::make_unique<PhoneServer>(*phone_, PhoneServer::Habits{});
    auto at = server_->listen({.wire = wire, .host = "127.0.0.1", .port = 0, .serial = {}});
    if (!at) give_up(describe(at.error()));
    address = std::move(*at);
  }
  PhoneAddress address;

 private:
  std::unique_ptr<SimulatedPhone> phone_;
  std::unique_ptr<PhoneServer> server_;
};

void write_to(const PhoneAddress& address, const fs::path& image) {
  FastbootPhone phone({address}, {}, {});
  auto source = open_file(image);
  if (!source) give_up(describe(source.error()));
  const auto done = phone.write("system", {"image", (*source)->size(), "", *source});
  if (!done) give_up(describe(done.error()));
}

/// The same bytes through a socket and into a file, a piece at a time.
void copy_over_socket(const fs::path& image, const fs::path& out) {
  const int listening = ::socket(AF_INET, SOCK_STREAM, 0);
  sockaddr_in at{};
  at.sin_family = AF_INET;
  at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  socklen_t length = sizeof at;
  if (::bind(listening, reinterpret_cast<sockaddr*>(&at), length) != 0 ||
      ::getsockname(listening, reinterpret_cast<sockaddr*>(&at), &length) != 0 ||
      ::listen(listening, 1) != 0)
    give_up("no port to listen at");
  std::thread server([&] {
    const int from = ::accept(listening, nullptr, nullptr);
    const int to = ::open(out.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0644);
    std::vector<char> room(kMiB);
    for (ssize_t got; (got = ::recv(from, room.data(), room.size(), MSG_WAITALL)) > 0;)
      if (::write(to, room.data(), static_cast<std::size_t>(got)) != got) give_up("cannot write");
    ::close(to);
    ::close(from);
  });
  const int to = ::socket(AF_INET, SOCK_STREAM, 0);
  if (::connect(to, reinterpret_cast<sockaddr*>(&at), sizeof at) != 0) give_up("nobody there");
  const int from = ::open(image.c_str(), O_RDONLY);
  std::vector<char> room(kMiB);
  for (ssize_t got; (got = ::read(from, room.data(), room.size())) > 0;)
    for (ssize_t put = 0; put < got;)
      put += ::send(to, room.data() + put, static_cast<std::size_t>(got - put), MSG_NOSIGNAL);
  ::close(from);
  ::shutdown(to, SHUT_WR);
  server.join();
  ::close(to);
  ::close(listening);
}

/// So many packets of 1400 bytes, each waited for: what the wire itself allows.
void stop_and_wait(std::size_t packets) {
  int ends[2];
  sockaddr_in at[2]{};
  for (int i = 0; i < 2; ++i) {
    ends[i] = ::socket(AF_INET, SOCK_DGRAM, 0);
    at[i].sin_family = AF_INET;
    at[i].sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    socklen_t length = sizeof at[i];
    if (::bind(ends[i], reinterpret_cast<sockaddr*>(&at[i]), length) != 0 ||
        ::getsockname(ends[i], reinterpret_cast<sockaddr*>(&at[i]), &length) != 0)
      give_up("no port to listen at");
  }
  for (int i = 0; i < 2; ++i)
    if (::connect(ends[i], reinterpret_cast<sockaddr*>(&at[1 - i]), sizeof at[i]) != 0)
      give_up("nobody there");
  char room[2048]{};
  std::thread other([&] {
    char mine[2048];
    for (std::size_t i = 0; i < packets; ++i)
      if (::recv(ends[1], mine, sizeof mine, 0) < 0 || ::send(ends[1], mine, 4, 0) < 0)
        give_up("the socket failed");
  });
  for (std::size_t i = 0; i < packets; ++i)
    if (::send(ends[0], room, 1400, 0) < 0 || ::recv(ends[0], room, sizeof room, 0) < 0)
      give_up("the socket failed");
  other.join();
  for (const int end : ends)
    ::close(end);
}

void tell(std::string_view what, double ours, std::string_view tools, double theirs, double least) {
  fmt::print("{}: {:.2f} s, {}: {:.2f} s: x{:.2f} of its rate (at least {:.1f} is wanted)\n", what,
             ours, tools, theirs, theirs / ours, least);
}

void over_tcp(const fs::path& folder) {
  constexpr std::uint64_t kSize = 512 * kMiB;
  static_cast<void>(shell(1, folder, "head -c 512M /dev/urandom > phone-image"));
  double ours = 1e9, theirs = 1e9;
  for (int i = 0; i < 3; ++i) {
    const Served phone(folder / "phone", Wire::Tcp, kSize);
    ours = std::min(ours, timed([&] { write_to(phone.address, folder / "phone-image"); }));
    theirs = std::min(
        theirs, timed([&] { copy_over_socket(folder / "phone-image", folder / "phone-copy"); }));
  }
  tell("512 MiB to a phone over TCP, into its partition", ours, "a plain socket into a file",
       theirs, 0.8);
}

void over_udp(const fs::path& folder) {
  constexpr std::size_t kPackets = 40'000, kData = 1396;
  static_cast<void>(
      shell(1, folder, fmt::format("head -c {} /dev/urandom > phone-image", kPackets * kData)));
  double ours = 1e9, theirs = 1e9;
  for (int i = 0; i < 3; ++i) {
    const Served phone(folder / "phone", Wire::Udp, kPackets * kData);
    ours = std::min(ours, timed([&] { write_to(phone.address, folder / "phone-image"); }));
    theirs = std::min(theirs, timed([&] { stop_and_wait(kPackets); }));
  }
  tell(fmt::format("{} MiB to a phone over UDP", kPackets * kData / kMiB), ours,
       "packets of 1400 bytes, each waited for", theirs, 0.5);
}

/// The host's memory for an image of nearly 4 GiB in one download.
void memory_of_a_large_image(const fs::path& folder) {
  constexpr std::uint64_t kSize = 0xF0000000;
  static_cast<void>(shell(1, folder, fmt::format("truncate -s {} phone-image", kSize)));
  const Served phone(folder / "phone", Wire::Tcp, kSize);
  const pid_t child = ::fork();
  if (child == 0) {
    rusage before{}, after{};
    ::getrusage(RUSAGE_SELF, &before);
    write_to(phone.address, folder / "phone-image");
    ::getrusage(RUSAGE_SELF, &after);
    fmt::print(
        "3.75 GiB in one download: the host's peak memory rose by {} MiB to {} MiB (64 are "
        "wanted)\n",
        (after.ru_maxrss - before.ru_maxrss) / 1024, after.ru_maxrss / 1024);
    std::fflush(stdout);
    ::_exit(0);
  }
  int status = 0;
  ::waitpid(child, &status, 0);
}

}  // namespace

void phones(const std::string& folder) {
  over_tcp(folder);
  over_udp(folder);
  memory_of_a_large_image(folder);
  static_cast<void>(shell(1, folder, "rm -rf phone phone-image phone-copy"));
}

}  // namespace wexlo::bench
