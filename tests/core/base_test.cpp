#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <thread>

#include "base/digest.hpp"
#include "base/output.hpp"
#include "base/pool.hpp"
#include "base/source.hpp"
#include "support/bytes.hpp"
#include "support/check.hpp"
#include "text/text.hpp"

using namespace wexlo;
using namespace wexlo::test;

TEST_CASE("slice: a range outside is refused with field, offset and both sizes") {
  const Bytes ten(10);
  CHECK(slice(ten, 2, 8, "x")->size() == 8);
  CHECK(slice(ten, 10, 0, "x")->empty());
  const auto bad = slice(ten, 8, 3, "kernel");
  REQUIRE_FALSE(bad);
  CHECK(bad.error().code == ErrorCode::Truncated);
  CHECK(bad.error().offset == 8);
  CHECK(bad.error().expected == "3 bytes");
  CHECK(bad.error().found == "2 bytes");
  CHECK(bad.error().message.find("kernel") != std::string::npos);
}

TEST_CASE("slice: offset plus count that wraps is refused") {
  const Bytes ten(10);
  CHECK_FALSE(slice(ten, ~std::uint64_t{0} - 3, 8, "x"));
  CHECK_FALSE(slice(ten, 4, ~std::uint64_t{0}, "x"));
}

TEST_CASE("readers: both byte orders, position, and the end") {
  const std::string raw = le32(0x01020304) + be64(0x1122334455667788) + "\x01\x02";
  LeReader little(as_view(raw));
  CHECK(little.get<std::uint32_t>("a").value() == 0x01020304);
  BeReader big(as_view(raw).subspan(4), 4);
  CHECK(big.get<std::uint64_t>("b").value() == 0x1122334455667788);
  CHECK(big.get<std::uint16_t>("c").value() == 0x0102);
  const auto past = big.get<std::uint32_t>("d");
  REQUIRE_FALSE(past);
  CHECK(past.error().offset == 14);  // counted from the file, not from the span
  CHECK(big.remaining() == 0);
}

TEST_CASE("writers: what they write reads back, text is cut and filled") {
  Bytes out;
  LeWriter writer(out);
  writer.put(std::uint16_t{0xbeef});
  writer.text("abcdef", 4);
  writer.text("x", 3);
  writer.align(8);
  CHECK(hex(out) == "efbe6162636478000000000000000000");
  Bytes big;
  BeWriter(big).put(std::uint32_t{0x01020304});
  CHECK(hex(big) == "01020304");
}

TEST_CASE("errors: the wording names file, offset, both sides and what to do") {
  const Error error{.code = ErrorCode::BadMagic,
                    .message = "not a payload",
                    .file = "a.bin",
                    .offset = 16,
                    .expected = "CrAU",
                    .found = "0000",
                    .hint = "Look again."};
  CHECK(describe(error) == "a.bin: at 0x10: not a payload: expected CrAU, found 0000. Look again.");
  CHECK(describe({.message = "no more"}) == "no more.");
}

TEST_CASE("errors: a name or base is added once, by whoever knows it first") {
  Error error{.message = "m", .offset = 5};
  error = at_base(std::move(error), 100);
  error = in_file(std::move(error), "inner");
  error = at_base(std::move(error), 1000);
  error = in_file(std::move(error), "outer");
  CHECK(error.offset == 105);
  CHECK(error.file == "inner");
}

TEST_CASE("sources: a window reads its part, and not a byte beside it") {
  const auto whole = open_memory(blob("0123456789"), "whole");
  const auto part = open_window(whole, 3, 4, "part");
  REQUIRE(part);
  CHECK(text(read_all(**part, 100)->view()) == "3456");
  Bytes two(2);
  const auto past = (*part)->read_at(3, two);
  REQUIRE_FALSE(past);
  CHECK(past.error().code == ErrorCode::Truncated);
  CHECK(past.error().file == "part");
  CHECK_FALSE(open_window(whole, 8, 3, "too far"));
  CHECK_FALSE(open_window(whole, ~std::uint64_t{0}, 2, "wraps"));
}

TEST_CASE("sources: files that are missing, folders, and too large ones") {
  const TempDir dir;
  CHECK(open_file(dir / "none").error().code == ErrorCode::NotFound);
  CHECK(open_file(dir.path()).error().code == ErrorCode::Io);
  test::write(dir / "file", "12345");
  const auto file = open_file(dir / "file");
  REQUIRE(file);
  CHECK(read_all(**file, 4).error().code == ErrorCode::LimitExceeded);
  CHECK(text(*read_some(**file, 3, 100)) == "45");
  CHECK(read_some(**file, 30, 100)->empty());
}

TEST_CASE("output: nothing under the final name before commit, all after") {
  const TempDir dir;
  {
    auto file = OutputFile::create(dir / "out.img", Overwrite::Refuse);
    REQUIRE(file);
    REQUIRE(file->write_at(0, as_view("hello")));
    CHECK_FALSE(std::filesystem::exists(dir / "out.img"));
  }
  CHECK(dir.names().empty());  // not committed: removed
  auto file = OutputFile::create(dir / "out.img", Overwrite::Refuse);
  REQUIRE(file->resize(8));
  REQUIRE(file->write_at(2, as_view("abc")));
  REQUIRE(file->commit());
  CHECK(test::read(dir / "out.img") == std::string("\0\0abc\0\0\0", 8));
  CHECK(dir.names() == std::vector<std::string>{"out.img"});
}

TEST_CASE("output: an existing file is refused, and replaced only when allowed") {
  const TempDir dir;
  test::write(dir / "out", "old");
  CHECK(OutputFile::create(dir / "out", Overwrite::Refuse).error().code == ErrorCode::Exists);
  CHECK(test::read(dir / "out") == "old");
  REQUIRE(write_file(dir / "out", as_view("new"), Overwrite::Replace));
  CHECK(test::read(dir / "out") == "new");
}

TEST_CASE("output: a file that appears in between is not replaced") {
  const TempDir dir;
  auto file = OutputFile::create(dir / "out", Overwrite::Refuse);
  REQUIRE(file);
  test::write(dir / "out", "somebody else's");
  CHECK(file->commit().error().code == ErrorCode::Exists);
  CHECK(test::read(dir / "out") == "somebody else's");
}

TEST_CASE("output: a folder appears whole; another's folder is never replaced") {
  const TempDir dir;
  {
    auto folder = OutputFolder::create(dir / "kit/", Overwrite::Refuse, "kit.json");
    REQUIRE(folder);
    test::write(folder->path() / "kit.json", "{}");
    CHECK_FALSE(std::filesystem::exists(dir / "kit"));
    REQUIRE(folder->commit());
  }
  CHECK(dir.names() == std::vector<std::string>{"kit", "kit/kit.json"});
  CHECK(OutputFolder::create(dir / "kit", Overwrite::Refuse, "kit.json").error().code ==
        ErrorCode::Exists);
  auto again = OutputFolder::create(dir / "kit", Overwrite::Replace, "kit.json");
  REQUIRE(again);
  test::write(again->path() / "kit.json", "{2}");
  REQUIRE(again->commit());
  CHECK(test::read(dir / "kit/kit.json") == "{2}");
  test::write(dir / "photos/a.jpg", "precious");
  CHECK(OutputFolder::create(dir / "photos", Overwrite::Replace, "kit.json").error().code ==
        ErrorCode::Exists);
  CHECK(test::read(dir / "photos/a.jpg") == "precious");
}

TEST_CASE("output: an error inside a folder in the making names the file as it would be called") {
  const TempDir dir;
  const auto folder = OutputFolder::create(dir / "kit", Overwrite::Refuse, "kit.json");
  REQUIRE(folder);
  const auto written = write_new(folder->path() / "no-such" / "a.img", as_view("x"));
  REQUIRE_FALSE(written);
  CHECK(folder->with_final_name(written.error()).file == (dir / "kit/no-such/a.img").string());
  CHECK(folder->with_final_name({.file = "other"}).file == "other");
}

TEST_CASE("pool: all tasks run, and the memory in flight stays in its bound") {
  const Context context{.jobs = 4, .memory_bound = 100};
  std::atomic<int> done = 0, in_flight = 0, most = 0;
  TaskGroup tasks(context);
  for (int i = 0; i < 200; ++i)
    tasks.submit(30, [&]() -> Status {
      const int now = ++in_flight;
      int seen = most;
      while (now > seen && !most.compare_exchange_weak(seen, now)) {
      }
      ++done;
      --in_flight;
      return {};
    });
  REQUIRE(tasks.wait());
  CHECK(done == 200);
  CHECK(most <= 3);
}

TEST_CASE("pool: a task larger than the bound runs alone, a failure is what wait gives") {
  const Context context{.jobs = 2, .memory_bound = 10};
  TaskGroup tasks(context);
  std::atomic<int> ran = 0;
  tasks.submit(1000, [&]() -> Status { return ++ran, Status{}; });
  tasks.submit(5, [&]() -> Status { return fail({.code = ErrorCode::Corrupt, .message = "x"}); });
  const auto status = tasks.wait();
  REQUIRE_FALSE(status);
  CHECK(status.error().code == ErrorCode::Corrupt);
  CHECK(ran == 1);
}

TEST_CASE("pool: one job is the caller's own thread, two are others") {
  for (const unsigned jobs : {1u, 2u}) {
    std::atomic<int> here = 0;
    const auto caller = std::this_thread::get_id();
    TaskGroup tasks({.jobs = jobs});
    for (int i = 0; i < 3; ++i)
      tasks.submit(0, [&]() -> Status {
        here += std::this_thread::get_id() == caller ? 1 : 0;
        return {};
      });
    CHECK(tasks.wait());
    CHECK(here == (jobs == 1 ? 3 : 0));
  }
}

TEST_CASE("pool: a stop that was asked for ends the work") {
  std::stop_source stop;
  const Context context{.jobs = 1, .stop = stop.get_token()};
  stop.request_stop();
  TaskGroup tasks(context);
  bool ran = false;
  tasks.submit(1, [&]() -> Status { return ran = true, Status{}; });
  CHECK(tasks.wait().error().code == ErrorCode::Interrupted);
  CHECK_FALSE(ran);
}

TEST_CASE("digests: known values") {
  CHECK(hex(digest(DigestKind::Sha1, as_view("abc"))) ==
        "a9993e364706816aba3e25717850c26c9cd0d89d");
  CHECK(sha256_hex(as_view("abc")) ==
        "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
}

TEST_CASE("text: any bytes survive percent-encoding as one word") {
  std::string all;
  for (int c = 0; c < 256; ++c)
    all += static_cast<char>(c);
  const std::string word = percent_encode(all);
  CHECK(word.find_first_of(" \t\n") == std::string::npos);
  CHECK(percent_decode(word).value() == all);
  CHECK_FALSE(percent_decode("100%"));
  CHECK_FALSE(percent_decode("%4"));
  CHECK_FALSE(percent_decode("%zz"));
}

TEST_CASE("text: a word for a shell comes back from it as it was") {
  CHECK(shell_word("build/demo/kit-1.2") == "build/demo/kit-1.2");
  CHECK(shell_word("fastboot+tcp://[::1]:5554") == "'fastboot+tcp://[::1]:5554'");
  CHECK(shell_word("") == "''");
  CHECK(shell_word("my kit") == "'my kit'");
  CHECK(shell_word("it's") == "'it'\\''s'");
  CHECK(shell_word("~/kit") == "'~/kit'");
}

TEST_CASE("text: what is shown holds no control bytes") {
  CHECK(printable("a\033[31m\n") == "a\\x1b[31m\\x0a");
  CHECK(printable("gr\xc3\xbc\xc3\x9f") == "gr\xc3\xbc\xc3\x9f");
  CHECK(printable("\xff") == "\\xff");
  CHECK(toml_quote("a\"b\\c\n") == "\"a\\\"b\\\\c\\u000A\"");
  CHECK(human_size(512) == "512 B");
  CHECK(human_size(1536) == "1.5 KiB");
}

TEST_CASE(
    "outputs: what a killed run left goes with the next; what lives, or is another's, stays") {
  const TempDir dir;
  // A process that is gone for certain: its number was never given.
  const std::string dead = "2147480000";
  test::write(dir / (".out.img." + dead + "-0.partial"), "left");
  std::filesystem::create_directory(dir / (".kit." + dead + "-1.partial"));
  test::write(dir / (".kit." + dead + "-1.partial/file"), "left");
  test::write(dir / (".kit.2." + dead + "-1.partial"), "another's");
  test::write(dir / ".kit.notes.partial", "a person's");
  const std::string own = ".kit." + std::to_string(::getpid()) + "-9.partial";
  std::filesystem::create_directory(dir / own);
  REQUIRE(write_file(dir / "out.img", as_view("x"), Overwrite::Refuse));
  {
    auto folder = OutputFolder::create(dir / "kit", Overwrite::Refuse, "m");
    REQUIRE(folder);
    REQUIRE(folder->commit());
  }
  std::vector<std::string> kept = {".kit.2." + dead + "-1.partial", own, ".kit.notes.partial",
                                   "kit", "out.img"};
  std::ranges::sort(kept);  // where our own number sorts differs from run to run
  CHECK(dir.names() == kept);
}

TEST_CASE("text: numbers are decimal or hexadecimal, whole, and fit") {
  CHECK(parse_number("0") == 0);
  CHECK(parse_number("0x10") == 16);
  CHECK(parse_number("0XfF") == 255);
  CHECK(parse_number("18446744073709551615") == ~std::uint64_t{0});
  for (const char* bad : {"", "x", "0x", "1 ", "-1", "+1", "1.5", "18446744073709551616", "0x1g"})
    CHECK_FALSE(parse_number(bad));
}

TEST_CASE("text: what is shown cannot command a terminal, what is marked up cannot be markup") {
  CHECK(printable("a\x1b[31m\xc2\x9b"
                  "b") == "a\\x1b[31m\\xc2\\x9bb");
  CHECK(printable("gr\xc3\xb6\xc3\x9f"
                  "er") ==
        "gr\xc3\xb6\xc3\x9f"
        "er");
  CHECK(markup_text("<a href=\"x\">&\x01") == "&lt;a href=&quot;x&quot;&gt;&amp;\\x01");
  CHECK_FALSE(is_utf8("\xed\xa0\x80"));
  CHECK_FALSE(is_utf8("\xe0\x80\x80"));
  CHECK_FALSE(is_utf8("\xf4\x90\x80\x80"));
  CHECK(is_utf8("\xf0\x9f\x90\x9f"));
  CHECK(toml_quote_utf8("\xc3\xb6\"\\\xff") == "\"\xc3\xb6\\\"\\\\\xef\xbf\xbd\"");
}

TEST_CASE("bounds: what is just as large is taken") {
  const TempDir dir;
  test::write(dir / "file", "12345");
  const auto file = open_file(dir / "file");
  REQUIRE(file);
  CHECK(text(read_all(**file, 5)->view()) == "12345");
  CHECK(human_size(1023) == "1023 B");
  CHECK(human_size(1024) == "1.0 KiB");
  CHECK(printable("a\x7f") == "a\\x7f");
  CHECK(percent_encode("a\x7f") == "a%7F");
}
