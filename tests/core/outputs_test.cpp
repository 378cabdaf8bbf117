/// Outputs and documents: nothing of somebody else's is replaced, nothing unbounded is believed.

#include <sys/stat.h>
#include <unistd.h>

#include <fstream>

#include "base/memory.hpp"
#include "base/output.hpp"
#include "base/source_read.hpp"
#include "codec/codec.hpp"
#include "kit/folder/manifest.hpp"
#include "support/check.hpp"
#include "text/json_read.hpp"
#include "text/toml_read.hpp"

using namespace wexlo;
using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

OutputFolder begun(const fs::path& target, Overwrite overwrite) {
  return value_of(OutputFolder::create(target, overwrite, "mark.txt"));
}

void fill(const OutputFolder& folder, const std::string& text) {
  REQUIRE(write_new(folder.path() / "mark.txt", as_view(text)));
}

}  // namespace

TEST_CASE("output: a folder that appears while one is filled stays, and so does what is in it") {
  for (const Overwrite overwrite : {Overwrite::Refuse, Overwrite::Replace}) {
    const TempDir dir;
    OutputFolder folder = begun(dir / "kit", overwrite);
    fill(folder, "ours");
    fs::create_directory(dir / "kit");
    test::write(dir / "kit/letters.txt", "somebody's");
    const auto done = folder.commit();
    REQUIRE_FALSE(done);
    CHECK(done.error().code == ErrorCode::Exists);
    CHECK(read(dir / "kit/letters.txt") == "somebody's");
    CHECK(fs::exists(folder.path()));  // until its owner goes
  }
}

TEST_CASE("output: of two runs to one name the second finds the first one's folder, and keeps it") {
  const TempDir dir;
  OutputFolder first = begun(dir / "kit", Overwrite::Refuse);
  OutputFolder second = begun(dir / "kit", Overwrite::Refuse);
  fill(first, "first");
  fill(second, "second");
  REQUIRE(first.commit());
  CHECK(second.commit().error().code == ErrorCode::Exists);
  CHECK(read(dir / "kit/mark.txt") == "first");
  {
    OutputFolder third = begun(dir / "kit", Overwrite::Replace);
    fill(third, "third");
    REQUIRE(third.commit());
  }
  CHECK(read(dir / "kit/mark.txt") == "third");
  CHECK_FALSE(OutputFolder::create(dir / "kit", Overwrite::Refuse, "mark.txt"));
}

TEST_CASE("output: with --force a link, a file or a folder of others' is no folder to replace") {
  const TempDir dir;
  fs::create_directory(dir / "real");
  test::write(dir / "real/mark.txt", "x");
  fs::create_directory_symlink(dir / "real", dir / "link");
  test::write(dir / "file", "x");
  fs::create_directory(dir / "others");
  for (const char* name : {"link", "file", "others"}) {
    CAPTURE(name);
    const auto folder = OutputFolder::create(dir / name, Overwrite::Replace, "mark.txt");
    REQUIRE_FALSE(folder);
    CHECK(folder.error().code == ErrorCode::Exists);
  }
  CHECK(fs::is_symlink(dir / "link"));
}

TEST_CASE("output: a run that was killed between the two halves of a replacement is put right") {
  const TempDir dir;
  // No process has this number: the largest that a kernel gives is far below.
  const fs::path aside = dir / ".kit.99999999-0.before";
  fs::create_directory(aside);
  test::write(aside / "mark.txt", "the old one");
  CHECK_FALSE(OutputFolder::create(dir / "kit", Overwrite::Refuse, "mark.txt"));
  CHECK(read(dir / "kit/mark.txt") == "the old one");
  // Where the new one has its place already, the old one goes.
  fs::create_directory(aside);
  { const auto next = begun(dir / "kit", Overwrite::Replace); }
  CHECK_FALSE(fs::exists(aside));
  CHECK(read(dir / "kit/mark.txt") == "the old one");
}

TEST_CASE("output: a device or a pipe is no output file, a link to one neither") {
  const TempDir dir;
  REQUIRE(::mkfifo((dir / "pipe").c_str(), 0600) == 0);
  fs::create_symlink("/dev/null", dir / "null");
  for (const char* name : {"pipe", "null"}) {
    CAPTURE(name);
    const auto file = OutputFile::create(dir / name, Overwrite::Replace);
    REQUIRE_FALSE(file);
    CHECK(file.error().code == ErrorCode::Exists);
  }
  CHECK(fs::is_fifo(dir / "pipe"));
  CHECK(fs::is_symlink(dir / "null"));
  // What takes the place while the bytes are written is not replaced either.
  auto file = value_of(OutputFile::create(dir / "late", Overwrite::Replace));
  REQUIRE(::mkfifo((dir / "late").c_str(), 0600) == 0);
  CHECK_FALSE(file.commit());
  CHECK(fs::is_fifo(dir / "late"));
}

TEST_CASE("output: an input is known by whatever name it is given") {
  const TempDir dir;
  test::write(dir / "in.img", "x");
  fs::create_symlink("in.img", dir / "link.img");
  fs::create_hard_link(dir / "in.img", dir / "hard.img");
  fs::create_directories(dir / "parts/deep");
  test::write(dir / "parts/kernel.bin", "k");
  const std::string in = (dir / "in.img").string();
  for (const char* name : {"in.img", "link.img", "hard.img", "parts/../in.img"})
    CHECK(check_not_input(dir / name, {in}).error().code == ErrorCode::Usage);
  CHECK(check_not_input(dir / "in.img", {(dir / "link.img").string()}).error().code ==
        ErrorCode::Usage);
  CHECK(check_not_input(dir / "out.img", {in}));
  CHECK(check_not_input(dir / "in.img", {"", "@recipe", "http://bench/in.img"}));
  // A file of an input folder, a folder that an input lies in.
  CHECK_FALSE(check_not_input(dir / "parts/kernel.bin", {(dir / "parts").string()}));
  CHECK_FALSE(check_not_input(dir / "parts", {(dir / "parts/kernel.bin").string()}));
  CHECK_FALSE(check_not_input(dir / "parts/", {(dir / "parts").string()}));
  // A kit inside the folder that holds the firmware may be made anew.
  CHECK(check_not_input(dir / "parts/deep", {(dir / "parts").string()}));
}

TEST_CASE("source: a pipe or a device where a file is due is an error at once, with no wait") {
  const TempDir dir;
  REQUIRE(::mkfifo((dir / "pipe").c_str(), 0600) == 0);
  for (const fs::path& path : {dir / "pipe", fs::path("/dev/zero"), fs::path("/dev/null")}) {
    CAPTURE(path.string());
    const auto source = open_file(path);
    REQUIRE_FALSE(source);
    CHECK(source.error().code == ErrorCode::Io);
  }
}

TEST_CASE("standard input: bounded, and a stop ends the wait") {
  int ends[2];
  REQUIRE(::pipe(ends) == 0);
  REQUIRE(::write(ends[1], "abcdef", 6) == 6);
  std::stop_source stop;
  const Context context{.stop = stop.get_token()};
  CHECK(read_descriptor(ends[0], "x", 5, context).error().code == ErrorCode::LimitExceeded);
  stop.request_stop();
  CHECK(read_descriptor(ends[0], "x", 5, context).error().code == ErrorCode::Interrupted);
  ::close(ends[1]);
  CHECK(value_of(read_descriptor(ends[0], "x", 5, {})).empty());
  ::close(ends[0]);
}

TEST_CASE("json: another type, a missing key and a wrong number are errors with their place") {
  const auto top = value_of(parse_json(
      R"({"a": {"list": [{"n": 7, "t": "x"}, {"n": "7"}], "none": null}, "m": {"k": "v"}, "f": true,
          "neg": -1, "real": 1.5, "big": 18446744073709551615})",
      "kit.json"));
  const auto list = value_of(value_of(top.object("a")).objects("list"));
  CHECK(value_of(list[0].number("n")) == 7);
  CHECK(value_of(list[0].text("t")) == "x");
  const auto wrong = list[1].number("n");
  REQUIRE_FALSE(wrong);
  CHECK(wrong.error().code == ErrorCode::BadValue);
  CHECK(wrong.error().file == "kit.json");
  CHECK(wrong.error().message.find("a.list[1].n") != std::string::npos);
  CHECK(wrong.error().found == "\"7\"");
  CHECK(list[0].text("gone").error().message.find("a.list[0].gone") != std::string::npos);
  CHECK(value_of(top.object("a")).text_or("none", "default") == "default");
  CHECK(value_of(top.number("big")) == ~std::uint64_t{0});
  for (const char* key : {"neg", "real", "f", "m", "a"})
    CHECK_FALSE(top.number(key));
  CHECK_FALSE(top.objects("m"));
  CHECK_FALSE(top.texts("f"));
  CHECK_FALSE(top.text_members("a"));
  CHECK(value_of(top.text_members("m")).front().second == "v");
}

TEST_CASE("json: depth, number and size are bounded before anything is built") {
  const auto code = [](const std::string& text, const JsonLimits& limits = {}) {
    return parse_json(text, "x", limits).error().code;
  };
  const auto nested = [](std::size_t depth) {
    std::string out = "{\"a\": ";
    for (std::size_t i = 0; i < depth; ++i)
      out += "[";
    return out + std::string(depth, ']') + "}";
  };
  CHECK(parse_json(nested(63), "x"));
  CHECK(code(nested(64)) == ErrorCode::LimitExceeded);
  CHECK(code(nested(1'000'000)) == ErrorCode::LimitExceeded);
  std::string many = "{\"a\": [0";
  for (int i = 0; i < 1000; ++i)
    many += ",0";
  CHECK(parse_json(many + "]}", "x"));
  CHECK(code(many + "]}", {.values = 1000}) == ErrorCode::LimitExceeded);
  CHECK(code(many + "]}", {.size = 1000}) == ErrorCode::LimitExceeded);
  CHECK(parse_json(R"({"brackets": "[[[[[ \" {{{{ ,,,,"})", "x", {.depth = 2, .values = 3}));
  const auto broken = parse_json("{\"a\": 1,, }", "x");
  CHECK(broken.error().code == ErrorCode::BadValue);
  CHECK(broken.error().offset == 8);
  CHECK(code("[1, 2]") == ErrorCode::BadValue);
  CHECK(code("{\"a\": \"\xff\"}") == ErrorCode::BadValue);
}

TEST_CASE(
    "toml: a key of many parts, deep values and too many values are refused with their line") {
  std::string dotted = "# a comment. with. dots\nx = \"a.b.c\"\n\na";
  for (int i = 0; i < 40'000; ++i)
    dotted += ".a";
  const auto key = parse_toml(dotted + " = 1\n", "r.toml");
  REQUIRE_FALSE(key);
  CHECK(key.error().code == ErrorCode::LimitExceeded);
  CHECK(key.error().message.find("line 4") != std::string::npos);
  CHECK_FALSE(parse_toml("[" + dotted.substr(dotted.rfind('\n') + 1) + "]\n", "r.toml"));
  CHECK_FALSE(parse_toml("x = " + std::string(100, '[') + std::string(100, ']'), "r.toml"));
  std::string many = "x = [";
  for (int i = 0; i < 210'000; ++i)
    many += "1,";
  CHECK_FALSE(parse_toml(many + "]", "r.toml"));
  // Dots in texts, numbers and times are none of keys.
  std::string texts = "x = \"\"\"\n" + std::string(500, '.') + "\n\"\"\"\ny = '" +
                      std::string(500, '.') + "'\nz = 1.5\n";
  CHECK(parse_toml(texts, "r.toml"));
}

TEST_CASE("memory: what is decoded counts as long as somebody has it") {
  const auto held = std::make_shared<HeldBytes>(3u << 20);
  const std::string packed = gzip(noise(1u << 20));
  const DecodeLimit limit{.held = held};
  auto first = decode(Compression::Gzip, as_view(packed), limit);
  REQUIRE(first);
  CHECK(held->now() >= (1u << 20));
  {
    const auto second = decode(Compression::Gzip, as_view(packed), limit);
    REQUIRE(second);
    const auto third = decode(Compression::Gzip, as_view(packed), limit);
    const auto fourth = decode(Compression::Gzip, as_view(packed), limit);
    CHECK_FALSE((third && fourth));
    CHECK((third ? fourth : third).error().code == ErrorCode::LimitExceeded);
  }
  const Blob part = first->bytes.part(0, 10);
  first = fail({.code = ErrorCode::Io});
  CHECK(held->now() == (1u << 20));  // a part keeps the whole
  (void)part;
  CHECK(decode(Compression::Gzip, as_view(packed), limit));
}

TEST_CASE("memory: an allocation that fails is the system's fault, and says how much was asked") {
  const Error error = no_memory_error(OutOfMemory(1u << 30), "wexlo inspect");
  CHECK(error.code == ErrorCode::NoMemory);
  CHECK(describe(error).find("1073741824") != std::string::npos);
  CHECK(describe(error).find("wexlo inspect") != std::string::npos);
}
