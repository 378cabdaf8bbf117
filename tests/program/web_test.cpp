/// Firmware on a web server: a real one (nginx), and ones that misbehave.

#include <arpa/inet.h>
#include <netinet/in.h>
#include <signal.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include <fstream>
#include <functional>
#include <thread>

#include "program/nginx.hpp"
#include "program/tool_bench.hpp"
#include "support/containers.hpp"
#include "support/rounds.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

/// Answers each request for a range as it is told to, and hangs up.
class RangeServer {
 public:
  /// @param answer  for the n-th request of bytes first to last: the whole answer
  using Answer = std::function<std::string(int n, std::size_t first, std::size_t last)>;
  explicit RangeServer(Answer answer) : answer_(std::move(answer)) {
    listener_ = ::socket(AF_INET, SOCK_STREAM, 0);
    sockaddr_in address{};
    address.sin_family = AF_INET;
    address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    socklen_t size = sizeof address;
    REQUIRE(::bind(listener_, reinterpret_cast<sockaddr*>(&address), size) == 0);
    REQUIRE(::listen(listener_, 8) == 0);
    ::getsockname(listener_, reinterpret_cast<sockaddr*>(&address), &size);
    port_ = ntohs(address.sin_port);
    thread_ = std::jthread([this](const std::stop_token& stop) { serve(stop); });
  }
  RangeServer(const RangeServer&) = delete;
  RangeServer& operator=(const RangeServer&) = delete;
  ~RangeServer() {
    thread_.request_stop();
    ::shutdown(listener_, SHUT_RDWR);
    ::close(listener_);
  }
  [[nodiscard]] std::string url() const {
    return "http://127.0.0.1:" + std::to_string(port_) + "/boot.img";
  }
  [[nodiscard]] static std::string head(std::size_t first, std::size_t last, std::size_t size,
                                        const std::string& more = "") {
    return "HTTP/1.1 206 Partial Content\r\nContent-Length: " + std::to_string(last - first + 1) +
           "\r\nContent-Range: bytes " + std::to_string(first) + "-" + std::to_string(last) + "/" +
           std::to_string(size) + "\r\n" + more + "Connection: close\r\n\r\n";
  }

 private:
  void serve(const std::stop_token& stop) {
    for (int n = 0; !stop.stop_requested();) {
      const int peer = ::accept(listener_, nullptr, nullptr);
      if (peer < 0) return;
      std::string request(4096, '\0');
      const auto got = ::read(peer, request.data(), request.size());
      request.resize(got > 0 ? static_cast<std::size_t>(got) : 0);
      if (const std::size_t at = request.find("bytes="); at != request.npos) {
        const std::size_t first = std::stoull(request.substr(at + 6));
        const std::size_t last = std::stoull(request.substr(request.find('-', at) + 1));
        const std::string answer = answer_(n++, first, last);
        (void)!::write(peer, answer.data(), answer.size());
      }
      ::close(peer);
    }
  }
  Answer answer_;
  int listener_ = -1;
  int port_ = 0;
  std::jthread thread_;
};

}  // namespace

TEST_CASE("web: only what is needed is fetched, from a real server") {
  const ToolBench bench;
  fs::create_directories(bench.dir / "www");
  PayloadBytes payload;
  payload.partitions.push_back(partition_of("init_boot", noise(64 * 4096, 1), 8, 16));
  payload.partitions.push_back(partition_of("system", noise(2048 * 4096, 2), 0, 256));
  write(bench.dir / "www/ota.zip", zip({{"payload.bin", payload.done()}}));
  const Nginx server(bench.dir);
  const Json item =
      program_json(bench.dir, {"inspect", server.url("ota.zip")})["result"]["items"][0];
  CHECK(item["kind"] == "ota-zip");
  CHECK(item["partitions"].size() == 2);
  CHECK(server.sent() < 1u << 20);
  CHECK(program(bench.dir, {"extract", server.url("moved/ota.zip"), "init_boot", "-o", "out"})
            .exit_code == 0);
  CHECK(read(bench.dir / "out/init_boot.img") == noise(64 * 4096, 1));
  CHECK(server.sent() < 2u << 20);
}

TEST_CASE("web: what a server refuses is told, with the documented exit code") {
  const ToolBench bench;
  fs::create_directories(bench.dir / "www");
  write(bench.dir / "www/boot.img", bench.boot);
  write(bench.dir / "www/empty.img", "");
  const Nginx server(bench.dir);
  const auto code_of = [&](const std::string& url, int exit_code) {
    return program_json(bench.dir, {"inspect", url}, exit_code)["error"]["code"].get<std::string>();
  };
  CHECK(code_of(server.url("none.zip"), 5) == "not-found");
  CHECK(code_of(server.url("private/boot.img"), 5) == "permission");
  CHECK(code_of(server.url("whole/boot.img"), 4) == "unsupported");
  CHECK(code_of(server.url("empty.img"), 4) == "unsupported");
  CHECK(code_of("http://127.0.0.1:9/boot.img", 5) == "io");
}

TEST_CASE("web: a server that hangs up in the middle is asked again where it stopped") {
  const TempDir dir;
  const std::string image = boot_image();
  // Promises the range, sends a third of it at most, and hangs up.
  const RangeServer server([&](int, std::size_t first, std::size_t last) {
    return RangeServer::head(first, last, image.size()) +
           image.substr(first, std::max<std::size_t>(1, (last - first + 1) / 3));
  });
  const Ran ran = program(dir, {"extract", server.url(), "-o", "out"});
  CHECK_MESSAGE(ran.exit_code == 0, ran.err);
  CHECK(read(dir / "out/boot.img") == image);
}

TEST_CASE("web: another range, size or version than was asked is an error, never other bytes") {
  const std::string image = boot_image();
  const std::size_t size = image.size();
  const auto part = [&](std::size_t first, std::size_t last) {
    return image.substr(first, last - first + 1);
  };
  using Answer = RangeServer::Answer;
  const std::vector<std::pair<std::string, Answer>> servers{
      {"another range than was asked",
       [&](int n, std::size_t first, std::size_t last) {
         if (n == 0) return RangeServer::head(first, last, size) + part(first, last);
         const std::size_t from = first >= 512 ? first - 512 : first + 512;
         const std::size_t to = std::min(from + (last - first), size - 1);
         return RangeServer::head(from, to, size) + part(from, to);
       }},
      {"another size than before",
       [&](int n, std::size_t first, std::size_t last) {
         return RangeServer::head(first, last, n == 0 ? size : size + 4096) + part(first, last);
       }},
      {"another version than before",
       [&](int n, std::size_t first, std::size_t last) {
         const std::string version = n == 0 ? "\"one\"" : "\"two\"";
         return RangeServer::head(first, last, size, "ETag: " + version + "\r\n") +
                part(first, last);
       }},
      {"a resumed answer of another version",
       [&](int n, std::size_t first, std::size_t last) {
         const std::string version = n % 2 == 0 ? "\"one\"" : "\"two\"";
         return RangeServer::head(first, last, size, "ETag: " + version + "\r\n") +
                part(first, last).substr(0, std::max<std::size_t>(1, (last - first + 1) / 3));
       }},
  };
  for (const auto& [name, answer] : servers) {
    CAPTURE(name);
    const TempDir dir;
    const RangeServer server(answer);
    const Json error = program_json(dir, {"extract", server.url(), "-o", "out"}, 3)["error"];
    CHECK(error["code"] == "corrupt");
    CHECK(error["message"] ==
          (name.starts_with("another range")
               ? "the server gives another part of the file than it was asked for"
               : "the file on the server changed while it was read"));
    CHECK_FALSE(fs::exists(dir / "out"));
  }
}
