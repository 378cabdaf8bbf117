#pragma once
/// A real web server for one test.

#include <arpa/inet.h>
#include <netinet/in.h>
#include <signal.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <fstream>
#include <thread>

#include "program/support.hpp"

namespace wexlo::test {

/// nginx on loopback: what lies in the folder's `www`.
class Nginx {
 public:
  explicit Nginx(const TempDir& dir) : folder_(dir.path().string()) {
    // A port that is free now; another program taking it meanwhile shows as a failed start.
    const int probe = ::socket(AF_INET, SOCK_STREAM, 0);
    sockaddr_in address{};
    address.sin_family = AF_INET;
    address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    socklen_t size = sizeof address;
    REQUIRE(::bind(probe, reinterpret_cast<sockaddr*>(&address), size) == 0);
    ::getsockname(probe, reinterpret_cast<sockaddr*>(&address), &size);
    port_ = ntohs(address.sin_port);
    ::close(probe);
    const std::string port = std::to_string(port_), f = folder_;
    write(dir / "nginx.conf", "user root; daemon off; pid " + f + "/pid; error_log " + f +
                                  "/err.log; worker_processes 1;\n"
                                  "events { worker_connections 64; }\nhttp { access_log " +
                                  f +
                                  "/access.log;\n"
                                  "client_body_temp_path " +
                                  f + "/t1; proxy_temp_path " + f + "/t2; fastcgi_temp_path " + f +
                                  "/t3;\n"
                                  "uwsgi_temp_path " +
                                  f + "/t4; scgi_temp_path " + f +
                                  "/t5;\n"
                                  "server { listen 127.0.0.1:" +
                                  port + "; root " + f +
                                  "/www;\n"
                                  "location /whole/ { alias " +
                                  f +
                                  "/www/; max_ranges 0; }\n"
                                  "location /private/ { deny all; }\n"
                                  "location /moved/ { rewrite ^/moved/(.*)$ /$1 redirect; }\n"
                                  "location /slow/ { alias " +
                                  f + "/www/; limit_rate 4m; }\n} }\n");
    child_ = ::fork();
    if (child_ == 0) {
      const std::string config = f + "/nginx.conf";
      ::execl("/usr/sbin/nginx", "nginx", "-c", config.c_str(), nullptr);
      ::_exit(127);
    }
    for (int i = 0; i < 100 && !std::filesystem::exists(dir / "pid"); ++i)
      std::this_thread::sleep_for(std::chrono::milliseconds(50));
    REQUIRE(std::filesystem::exists(dir / "pid"));
  }
  Nginx(const Nginx&) = delete;
  Nginx& operator=(const Nginx&) = delete;
  ~Nginx() {
    ::kill(child_, SIGTERM);
    ::waitpid(child_, nullptr, 0);
  }
  [[nodiscard]] std::string url(const std::string& path) const {
    return "http://127.0.0.1:" + std::to_string(port_) + "/" + path;
  }
  /// Bytes of bodies that it sent.
  [[nodiscard]] std::uint64_t sent() const {
    std::ifstream log(folder_ + "/access.log");
    std::uint64_t total = 0;
    for (std::string line; std::getline(log, line);) {
      const std::size_t at = line.find("\" ", line.find("HTTP/1"));
      total += std::stoull(line.substr(at + 6));
    }
    return total;
  }

 private:
  std::string folder_;
  pid_t child_ = -1;
  int port_ = 0;
};

}  // namespace wexlo::test
