/// Packages made by general tools (tar, zip, lz4, xz, brotli, sgdisk, veritysetup, nginx), opened
/// by the built program.

#include <arpa/inet.h>
#include <netinet/in.h>
#include <signal.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include <fstream>
#include <functional>
#include <thread>

#include "program/support.hpp"
#include "support/boot.hpp"
#include "support/containers.hpp"
#include "support/rounds.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

std::string boot_image(std::uint32_t seed = 1) {
  return BootBytes{.version = 2, .page = 2048, .kernel = noise(300'000, seed), .ramdisk = gzip("r")}
      .done();
}

/// A folder with images in it, and general tools at hand.
struct Bench {
  TempDir dir;
  std::string boot = boot_image(), dtbo = noise(50'000, 2);
  Bench() {
    write(dir / "boot.img", boot);
    write(dir / "dtbo.img", dtbo);
  }
  void tools(const std::string& line) const {
    const Ran ran = shell(line, dir.path().string());
    REQUIRE_MESSAGE(ran.exit_code == 0, ran.err);
  }
  /// Both images come out of it, whole and verified in some way.
  void holds(const std::string& package, const std::string& kind) const {
    CAPTURE(package);
    const Json item = program_json(dir, {"inspect", package})["result"]["items"][0];
    CHECK(item["kind"] == kind);
    const Json document =
        program_json(dir, {"extract", package, "boot", "dtbo", "-o", "out-" + kind, "--force"});
    for (const Json& one : document["result"]["partitions"]) {
      const std::string& wanted = one["name"] == "boot" ? boot : dtbo;
      CHECK(one["sha256"] == hex_of(sha256(wanted)));
      CHECK(one["size"] == wanted.size());
      CHECK(read(dir / one["file"].get<std::string>()) == wanted);
    }
  }
};

}  // namespace

TEST_CASE("containers: what general tools pack, Wexlo opens") {
  const Bench bench;
  bench.tools("zip -q plain.zip boot.img dtbo.img && zip -q -0 stored.zip boot.img dtbo.img");
  bench.tools("lz4 -q --content-size boot.img boot.img.lz4 && lz4 -q dtbo.img dtbo.img.lz4");
  bench.tools(
      "tar -H ustar -cf AP.tar boot.img.lz4 dtbo.img.lz4 && cp AP.tar AP.tar.md5 && "
      "md5sum AP.tar >> AP.tar.md5");
  bench.tools(
      "tar -czf gnu.tar.gz boot.img dtbo.img && tar --format=pax -cf pax.tar boot.img dtbo.img");
  bench.tools(
      "mkdir f && cp plain.zip f/image-x.zip && zip -q -r nested.zip f && zip -q -0 -r window.zip "
      "f");
  // Sizes in 64 bits; sizes behind the data, as a packer writes them that cannot go back.
  bench.tools("zip -q -fz z64.zip boot.img dtbo.img && zip -q - boot.img dtbo.img > stream.zip");
  bench.tools("xz -k -T1 plain.zip && zstd -q plain.zip && bzip2 -k pax.tar");
  bench.tools("mkdir loose && cp boot.img dtbo.img loose && mkdir set && cp AP.tar.md5 set");
  for (const char* package :
       {"plain.zip", "stored.zip", "nested.zip", "window.zip", "z64.zip", "stream.zip"})
    bench.holds(package, "zip");
  for (const char* package : {"AP.tar", "AP.tar.md5", "pax.tar"})
    bench.holds(package, "tar");
  bench.holds("gnu.tar.gz", "gzip");
  bench.holds("plain.zip.xz", "xz");
  bench.holds("plain.zip.zst", "zstd");
  bench.holds("pax.tar.bz2", "bzip2");
  for (const char* package : {"loose", "set"})
    bench.holds(package, "folder");
}

TEST_CASE("containers: a sum line that is wrong stops the extraction; --quick does not look") {
  const Bench bench;
  bench.tools("tar -cf x.tar boot.img dtbo.img && cp x.tar x.tar.md5 && md5sum x.tar >> x.tar.md5");
  std::string bytes = read(bench.dir / "x.tar.md5");
  const std::size_t inside = bytes.find(bench.dtbo.substr(0, 64)) + 200;
  bytes[inside] ^= 1;
  write(bench.dir / "x.tar.md5", bytes);
  const Json error =
      program_json(bench.dir, {"extract", "x.tar.md5", "boot", "-o", "out"}, 3)["error"];
  CHECK(error["code"] == "digest-mismatch");
  CHECK(error["expected"].get<std::string>().size() == 32);
  CHECK_FALSE(fs::exists(bench.dir / "out"));
  const Json quick =
      program_json(bench.dir, {"extract", "x.tar.md5", "boot", "-o", "out", "--quick"});
  CHECK(quick["result"]["partitions"][0]["verified"] == false);
  CHECK(quick["result"]["partitions"][0]["sha256"].is_null());
}

TEST_CASE("containers: several tars given together are one set") {
  const Bench bench;
  bench.tools("tar -cf AP.tar boot.img && tar -cf BL.tar dtbo.img");
  for (const auto& words : {std::vector<std::string>{"AP.tar", "BL.tar", "boot", "dtbo"},
                            {"AP.tar", "--also", "BL.tar", "boot", "dtbo"}}) {
    std::vector<std::string> command{"extract"};
    command.insert(command.end(), words.begin(), words.end());
    command.insert(command.end(), {"-o", "out", "--force"});
    CHECK(program_json(bench.dir, command)["result"]["partitions"].size() == 2);
    CHECK(read(bench.dir / "out/dtbo.img") == bench.dtbo);
  }
}

TEST_CASE("containers: an encrypted member is named, exit 4; the others come out") {
  const Bench bench;
  bench.tools("zip -q -P secret locked.zip dtbo.img && zip -q locked.zip boot.img");
  const Json error =
      program_json(bench.dir, {"extract", "locked.zip", "dtbo", "-o", "out"}, 4)["error"];
  CHECK(error["message"].get<std::string>().find("encrypted") != std::string::npos);
  CHECK_FALSE(fs::exists(bench.dir / "out"));
  CHECK(program(bench.dir, {"extract", "locked.zip", "boot", "-o", "out"}).exit_code == 0);
}

TEST_CASE("containers: a transfer list with brotli data") {
  const Bench bench;
  const std::string data = noise(64 * 4096, 7);
  write(bench.dir / "system.new.dat", data);
  write(bench.dir / "system.transfer.list", "4\n64\n0\n0\nnew 4,0,32,64,96\nzero 2,32,64\n");
  bench.tools(
      "brotli -q 3 system.new.dat && rm system.new.dat && zip -q -0 ota.zip system.transfer.list "
      "system.new.dat.br boot.img");
  CHECK(program(bench.dir, {"extract", "ota.zip", "system", "boot", "-o", "out"}).exit_code == 0);
  const std::string half = data.substr(0, 32 * 4096);
  CHECK(read(bench.dir / "out/system.img") ==
        half + std::string(32 * 4096, '\0') + data.substr(half.size()));
}

TEST_CASE("containers: a disk dump that sgdisk laid out") {
  const Bench bench;
  bench.tools(
      "truncate -s 8M disk.bin && sgdisk -n 1:2048:4095 -c 1:boot_a -n 2:4096:6143 -c 2:boot_b "
      "disk.bin && "
      "dd if=boot.img of=disk.bin bs=512 seek=2048 conv=notrunc status=none");
  CHECK(program(bench.dir, {"extract", "disk.bin", "boot_a", "-o", "out"}).exit_code == 0);
  const std::string out = read(bench.dir / "out/boot_a.img");
  CHECK(out.size() == 2048 * 512);
  CHECK(out.substr(0, bench.boot.size()) == bench.boot);
  const Json choice =
      program_json(bench.dir, {"extract", "disk.bin", "boot", "-o", "two"}, 1)["error"];
  CHECK(choice["code"] == "ambiguous");
  bench.tools("dd if=/dev/zero of=disk.bin bs=512 seek=1 count=1 conv=notrunc status=none");
  const Json item = program_json(bench.dir, {"inspect", "disk.bin"});
  CHECK(item["findings"][0]["code"] == "gpt-backup");
}

TEST_CASE("containers: holes stay holes, and the tree of a payload is what veritysetup makes") {
  const Bench bench;
  write(bench.dir / "s.img", SparseBytes().raw(noise(4096)).skip(4000).raw(noise(4096, 2)).done());
  CHECK(program(bench.dir, {"extract", "s.img", "-o", "out"}).exit_code == 0);
  struct stat info {};
  REQUIRE(::stat((bench.dir / "out/s.img").c_str(), &info) == 0);
  CHECK(info.st_size == 4002 * 4096);
  CHECK(info.st_blocks * 512 < 1 << 20);

  const std::string content = noise(300 * 4096, 5), salt = noise(32, 6);
  PayloadBytes payload;
  Partition& p = payload.partitions.emplace_back(partition_of("system", content, 0, 32));
  write(bench.dir / "data", content);
  const Ran made = shell("veritysetup format --no-superblock --salt " + hex_of(salt) + " data tree",
                         bench.dir.path().string());
  REQUIRE_MESSAGE(made.exit_code == 0, made.err);
  const std::string tree = read(bench.dir / "tree");
  p.image = content + tree;
  p.generated =
      Partition::Generated{.data_blocks = 300, .tree_blocks = tree.size() / 4096, .salt = salt};
  write(bench.dir / "payload.bin", payload.done());
  CHECK(program_json(bench.dir, {"extract", "payload.bin", "system", "-o",
                                 "made"})["result"]["partitions"][0]["verified"] == true);
}

TEST_CASE("extract: --list writes nothing; another package's folder is refused") {
  const Bench bench;
  bench.tools("zip -q a.zip boot.img dtbo.img && zip -q b.zip boot.img");
  const Json list = program_json(bench.dir, {"extract", "a.zip", "--list"});
  CHECK(list["result"]["partitions"][0]["chosen"] == true);
  CHECK_FALSE(fs::exists(bench.dir / "out"));
  CHECK(program(bench.dir, {"extract", "a.zip"}).exit_code == 2);
  CHECK(program(bench.dir, {"extract", "a.zip", "boot", "-o", "out"}).exit_code == 0);
  CHECK(program(bench.dir, {"extract", "a.zip", "dtbo", "-o", "out"}).exit_code == 0);
  const Json manifest = Json::parse(read(bench.dir / "out/extract.json"));
  CHECK(manifest["firmware"] == "a.zip");
  CHECK(manifest["partitions"].size() == 2);
  fs::remove(bench.dir / "out/boot.img");
  const Json error = program_json(bench.dir, {"extract", "b.zip", "boot", "-o", "out"}, 5)["error"];
  CHECK(error["found"] == "a.zip");
  CHECK_FALSE(fs::exists(bench.dir / "out/boot.img"));
  CHECK(program(bench.dir, {"extract", "b.zip", "boot", "-o", "out", "--force"}).exit_code == 0);
}

TEST_CASE("extract: the metadata's signature is verified with the key that openssl made it with") {
  const Bench bench;
  PayloadBytes payload;
  payload.partitions.push_back(partition_of("boot", noise(8192), 8));
  // The size of the signature's message stands in what is signed.
  payload.signature = proto_bytes(1, proto_bytes(2, std::string(256, 's')));
  std::string bytes = payload.done();
  const std::size_t at = bytes.find(payload.signature);
  write(bench.dir / "signed", bytes.substr(0, at));
  bench.tools(
      "openssl genrsa -out key.pem 2048 2>/dev/null && openssl rsa -in key.pem -pubout -out "
      "pub.pem 2>/dev/null && "
      "openssl genrsa -out other.pem 2048 2>/dev/null && openssl dgst -sha256 -sign key.pem -out "
      "sig signed");
  bytes.replace(bytes.find(std::string(256, 's')), 256, read(bench.dir / "sig"));
  write(bench.dir / "payload.bin", bytes);
  CHECK(program(bench.dir, {"extract", "payload.bin", "boot", "-o", "out", "--key", "pub.pem"})
            .exit_code == 0);
  CHECK(program(bench.dir, {"inspect", "payload.bin", "--key", "key.pem"}).exit_code == 0);
  CHECK(program(bench.dir, {"keys", "show", "pub.pem", "-o", "pub.bin"}).exit_code == 0);
  CHECK(program(bench.dir, {"inspect", "payload.bin", "--key", "pub.bin"}).exit_code == 0);
  CHECK(program_json(bench.dir, {"inspect", "payload.bin", "--key", "other.pem"},
                     3)["error"]["code"] == "bad-signature");
  CHECK(program(bench.dir, {"inspect", "payload.bin", "--key", "boot.img"}).exit_code == 3);
}

namespace {

/// A web server on loopback, for one test.
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
    for (int i = 0; i < 100 && !fs::exists(dir / "pid"); ++i)
      std::this_thread::sleep_for(std::chrono::milliseconds(50));
    REQUIRE(fs::exists(dir / "pid"));
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
  const Bench bench;
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
  const Bench bench;
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
    const Ran ran = program(dir, {"extract", server.url(), "-o", "out"});
    CAPTURE(ran.err);
    CHECK((ran.exit_code == 3 || ran.exit_code == 5));
    CHECK_FALSE(fs::exists(dir / "out"));
  }
}

TEST_CASE("demo --all: the other phones' packages and the update between builds" *
          doctest::skip(kWatched)) {
  const TempDir dir;
  const Ran ran = program(dir, {"demo", "demo", "--all"});
  REQUIRE_MESSAGE(ran.exit_code == 0, ran.err);
  CHECK(read(dir / "demo/images/init_boot.img") == read(dir / "demo/images-updated/init_boot.img"));
  CHECK(shell("md5sum -c /dev/stdin <<< \"$(tail -c 70 demo/plumbline-home.tar.md5 | tr -d '\\0' | "
              "tail -1)\" 2>&1; "
              "tar -tf demo/plumbline-home.tar.md5",
              dir.path().string())
            .out.find("boot.img.lz4") != std::string::npos);
  CHECK(shell("unzip -tq demo/vernier-factory.zip", dir.path().string()).exit_code == 0);
  const Json vernier =
      program_json(dir, {"inspect", "demo/vernier-factory.zip"})["result"]["items"][0];
  CHECK(vernier["build"]["device"] == "vernier");
  CHECK(vernier["build"]["baseband"] == "KVM-7.1");
  // The wrong build as a base is told as such.
  const Json error = program_json(dir,
                                  {"extract", "demo/gnomon-ota-260805-to-260905.zip", "init_boot",
                                   "--base", "demo/images", "-o", "x"},
                                  3)["error"];
  CHECK(error["hint"].get<std::string>().find("20260805") != std::string::npos);
  CHECK_FALSE(fs::exists(dir / "x"));
}
