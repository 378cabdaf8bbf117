/// Programs of others: how they are started, kept from the network, and ended.

#include "base/other_program.hpp"

#include <doctest/doctest.h>
#include <sys/stat.h>

#include <csignal>
#include <fstream>
#include <thread>

#include "support/check.hpp"
#include "support/run.hpp"
#include "text/text.hpp"

namespace wexlo::test {
namespace {

std::filesystem::path script(const TempDir& dir, const std::string& text) {
  const auto path = dir / "program";
  write(path, text);
  std::filesystem::permissions(path, std::filesystem::perms::owner_all);
  return path;
}

ProgramEnd ran(const ProgramCall& call) {
  const auto end = run_program(call, {});
  REQUIRE_MESSAGE(end, (end ? "" : describe(end.error())));
  return *end;
}

const std::string kOpensASocket =
    "#!/usr/bin/env python3\nimport socket, sys\n"
    "try:\n  socket.socket(socket.AF_INET, socket.SOCK_STREAM)\n"
    "except PermissionError: sys.exit(7)\nsys.exit(0)\n";

/// One that ended and that nobody waited for does not count.
bool is_alive(const std::string& pid) {
  std::ifstream file("/proc/" + pid + "/stat");
  std::string number, name, state;
  return (file >> number >> name >> state) && state != "Z";
}

}  // namespace

TEST_CASE("programs: a closed one opens no socket, an open one does") {
  const TempDir dir;
  const auto program = script(dir, kOpensASocket);
  CHECK(ran({.words = {program.string()}, .reach = Reach::Open}).exit_code == 0);
  CHECK(ran({.words = {program.string()}, .reach = Reach::Closed}).exit_code == 7);
}

TEST_CASE("programs: what it starts is kept from the network as well") {
  const TempDir dir;
  write(dir / "inner", kOpensASocket);
  const auto program =
      script(dir, "#!/bin/sh\npython3 " + (dir / "inner").string() + " || exit 3\n");
  CHECK(ran({.words = {program.string()}, .reach = Reach::Closed}).exit_code == 3);
}

TEST_CASE("programs: words are not read by a shell, and the environment is its own") {
  const TempDir dir;
  const auto program = script(dir, "#!/bin/sh\nprintf '%s|' \"$@\" \"$WEXLO_SECRET\" \"$HOME\"\n");
  ::setenv("WEXLO_SECRET", "of the user", 1);
  const ProgramCall call{.words = {program.string(), "$(id)", "a b", ";", "*"},
                         .folder = dir.path(),
                         .reach = Reach::Closed,
                         .said = dir / "said"};
  CHECK(ran(call).ok());
  ::unsetenv("WEXLO_SECRET");
  CHECK(read(dir / "said") == "$(id)|a b|;|*||" + dir.path().string() + "|");
}

TEST_CASE("programs: one that takes too long is ended, with all that it started") {
  const TempDir dir;
  const auto program = script(dir, "#!/bin/sh\nsleep 600 &\necho $! > \"$1\"\nwait\n");
  const ProgramEnd end = ran({.words = {program.string(), (dir / "pid").string()},
                              .patience = std::chrono::seconds(1),
                              .reach = Reach::Closed});
  CHECK(end.late);
  CHECK_FALSE(end.ok());
  const std::string text = read(dir / "pid");
  const std::string left(trimmed(text));
  REQUIRE_FALSE(left.empty());
  for (int i = 0; i < 200 && is_alive(left); ++i)
    std::this_thread::sleep_for(std::chrono::milliseconds(10));
  CHECK_FALSE(is_alive(left));
}

TEST_CASE("programs: a closed one cannot leave the group that is ended with it") {
  const TempDir dir;
  const auto program = script(dir,
                              "#!/usr/bin/env python3\nimport os, sys\nif os.fork(): "
                              "sys.exit(os.waitstatus_to_exitcode(os.wait()[1]))\n"
                              "try: os.setsid()\nexcept PermissionError: sys.exit(7)\n");
  CHECK(ran({.words = {program.string()}, .reach = Reach::Open}).exit_code == 0);
  CHECK(ran({.words = {program.string()}, .reach = Reach::Closed}).exit_code == 7);
}

TEST_CASE("programs: exit codes and signals are told, a program that does not start is an error") {
  const TempDir dir;
  CHECK(ran({.words = {script(dir, "#!/bin/sh\nexit 5\n").string()}}).exit_code == 5);
  const ProgramEnd end = ran({.words = {script(dir, "#!/bin/sh\nkill -SEGV $$\n").string()}});
  CHECK(end.signal == SIGSEGV);
  CHECK_FALSE(end.exit_code);
  CHECK(end.text().starts_with("ended by a signal"));
  for (const Reach reach : {Reach::Open, Reach::Closed}) {
    const auto none = run_program({.words = {(dir / "none").string()}, .reach = reach}, {});
    REQUIRE_FALSE(none);
    CHECK(none.error().code == ErrorCode::NotFound);
    CHECK(none.error().file == (dir / "none").string());
    write(dir / "text", "true\n");
    std::filesystem::permissions(dir / "text", std::filesystem::perms::owner_read);
    const auto closed = run_program({.words = {(dir / "text").string()}, .reach = reach}, {});
    REQUIRE_FALSE(closed);
    CHECK(closed.error().code == ErrorCode::Permission);
    // What is no program is not given to a shell.
    std::filesystem::permissions(dir / "text", std::filesystem::perms::owner_all);
    CHECK_FALSE(run_program({.words = {(dir / "text").string()}, .reach = reach}, {}));
  }
}

TEST_CASE("programs: a name is looked for in PATH") {
  CHECK(ran({.words = {"true"}}).ok());
  CHECK(ran({.words = {"false"}}).exit_code == 1);
}

TEST_CASE("programs: a stop ends it") {
  const TempDir dir;
  const auto program = script(dir, "#!/bin/sh\nexec sleep 600\n");
  std::stop_source stop;
  std::jthread later([&] {
    std::this_thread::sleep_for(std::chrono::milliseconds(100));
    stop.request_stop();
  });
  const auto end =
      run_program({.words = {program.string()}, .reach = Reach::Closed}, stop.get_token());
  REQUIRE_FALSE(end);
  CHECK(end.error().code == ErrorCode::Interrupted);
}

TEST_CASE("programs: a private folder is its owner's alone, and goes") {
  std::filesystem::path path;
  {
    const auto folder = PrivateFolder::create("tests");
    REQUIRE(folder);
    path = folder->path();
    struct stat info {};
    REQUIRE(::stat(path.c_str(), &info) == 0);
    CHECK((info.st_mode & 0777) == 0700);
    write(path / "file", "x");
  }
  CHECK_FALSE(std::filesystem::exists(path));
}

}  // namespace wexlo::test
