/// A recipe's program that changes the kernel: what it may, what is made of it, what it is refused.

#include "core/edits_bench.hpp"
#include "core/parts_bench.hpp"

namespace wexlo::test {
namespace {

constexpr const char* kShort =
    "before, after = sys.argv[-2:]\nkernel = bytearray(open(before, 'rb').read())\n";
constexpr const char* kWrite = "open(after, 'wb').write(kernel)\n";

std::string kernel_of_release(const std::string& release) {
  return padded(arm64_kernel(release) + noise(2000, 6), 8);
}

std::string image_with(const std::string& kernel) {
  return BootBytes{.version = 2,
                   .kernel = kernel,
                   .ramdisk = gzip(CpioBytes{}.file("init", elf("arm64", "stock")).done())}
      .done();
}

/// A recipe's folder with a program in Python.
struct Program {
  TempDir dir;
  explicit Program(const std::string& body, const std::string& more = "") {
    write(dir / "change", "#!/usr/bin/env python3\nimport sys, os\n" + body);
    write(dir / "r.toml",
          "format = 1\nname = \"k\"\n[[edit]]\nkind = \"kernel-program\"\nfrom = \"change\"\n" +
              more);
  }
  [[nodiscard]] Result<Patched> on(const std::string& image, bool allowed = true) const {
    auto recipes = load_recipes({(dir / "r.toml").string()}, {});
    REQUIRE_MESSAGE(recipes, (recipes ? "" : describe(recipes.error())));
    return patch_image(load(image), {.partition = "boot", .allow_programs = allowed}, *recipes);
  }
};

Patched changed(const Program& program, const std::string& image) {
  auto done = program.on(image);
  REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
  REQUIRE(done->changed);
  return std::move(*done);
}

std::string kernel_in(const Patched& done) {
  return text(load(text(done.bytes)).image->section("kernel")->bytes.view());
}

/// By the general tools.
std::string unpacked(const std::string& packed) {
  const TempDir dir;
  write(dir / "k", packed);
  return shell("gzip -dc < " + (dir / "k").string() + " 2>/dev/null").out;
}

bool has_detail(const Patched& done, const std::string& wanted) {
  const auto& details = done.edits.front().details;
  return std::ranges::any_of(details, [&](const std::string& one) { return one == wanted; });
}

Error refused(const std::string& body, const std::string& more = "") {
  const auto done = Program(body, more).on(image_with(gzip(kernel_of_release("5.10.1-korvale"))));
  REQUIRE_FALSE(done);
  return done.error();
}

}  // namespace

TEST_CASE("kernel-program: what it changes and adds is told by its places, and comes out again") {
  const std::string plain = kernel_of_release("5.10.1-korvale"),
                    tree = device_tree("Tarn 2", "korvale,vernier");
  const std::string image = image_with(gzip(plain) + tree);
  const Program program(std::string(kShort) + "kernel[300:304] = b'tide'\nkernel += b'new' * 9\n" +
                        kWrite);
  const Patched done = changed(program, image);
  CHECK(has_detail(done, "kernel 0x12c (unpacked): 4 bytes"));
  CHECK(has_detail(
      done, fmt::format("kernel 0x{:x} (unpacked): 27 bytes added at the end", plain.size())));
  const std::string section = kernel_in(done);
  CHECK(section.ends_with(tree));
  std::string wanted = plain;
  wanted.replace(300, 4, "tide");
  for (int i = 0; i < 9; ++i)
    wanted += "new";
  CHECK(unpacked(section.substr(0, section.size() - tree.size())) == wanted);
  check_undone(done, image);
  // The ramdisk tells that it was run: it is not run again, and nobody has to allow it.
  const auto twice = program.on(text(done.bytes), false);
  REQUIRE(twice);
  CHECK_FALSE(twice->changed);
  CHECK(twice->edits.front().outcome == Outcome::AlreadyDone);
}

TEST_CASE("kernel-program: a kernel that gets shorter is accounted for, and comes out again") {
  const std::string plain = kernel_of_release("5.10.1-korvale"), image = image_with(gzip(plain));
  const Patched done = changed(Program(std::string(kShort) + "del kernel[-16:]\n" + kWrite), image);
  CHECK(has_detail(done,
                   fmt::format("kernel 0x{:x} (unpacked): 16 bytes cut off", plain.size() - 16)));
  CHECK(unpacked(kernel_in(done)) == plain.substr(0, plain.size() - 16));
  check_undone(done, image);
}

TEST_CASE("kernel-program: many places are told as few that hold them all") {
  const std::string plain = kernel_of_release("5.10.1-korvale"), image = image_with(gzip(plain));
  const Patched done =
      changed(Program(std::string(kShort) +
                      "for i in range(256, len(kernel), 20): kernel[i] ^= 255\n" + kWrite),
              image);
  CHECK(done.edits.front().effects.size() <= 64);
  check_undone(done, image);
}

TEST_CASE("kernel-program: it is not run unless it was allowed") {
  const std::string image = image_with(gzip(kernel_of_release("5.10.1-korvale")));
  const Program program("sys.exit(9)\n");
  const auto done = program.on(image, false);
  REQUIRE_FALSE(done);
  CHECK(done.error().code == ErrorCode::NeedsPerson);
  CHECK(done.error().message.starts_with("recipe k: a program that it brings along"));
  CHECK(done.error().file == "change");
  CHECK(done.error().expected == "the option --allow-programs");
}

TEST_CASE("kernel-program: what it has for arguments, and where it runs") {
  const std::string image = image_with(gzip(kernel_of_release("5.10.1-korvale")));
  const Program program(
      std::string(kShort) +
          "assert sys.argv[1:3] == ['$(id) ${x}', 'arm64'], sys.argv\n"
          "assert sys.argv[3] == '--in=' + before, sys.argv\n"
          "assert os.getcwd() == os.path.dirname(os.path.realpath(sys.argv[0]))\n"
          "assert os.path.basename(sys.argv[0]) == 'change'\nkernel += b'x' * 8\n" +
          kWrite,
      "arguments = [\"$(id) $${x}\", \"${arch}\", \"--in=${in}\", \"${in}\", \"${out}\"]\n");
  changed(program, image);
}

TEST_CASE("kernel-program: what it leaves as it is counts as done") {
  const std::string image = image_with(gzip(kernel_of_release("5.10.1-korvale")));
  const auto done = Program(std::string(kShort) + kWrite).on(image);
  REQUIRE(done);
  CHECK_FALSE(done->changed);
  CHECK(done->edits.front().outcome == Outcome::AlreadyDone);
}

TEST_CASE("kernel-program: failures are told with what it said, and nothing is made") {
  Error error = refused("print('first')\nprint('no such kernel')\nsys.exit(3)\n");
  CHECK(error.code == ErrorCode::BadValue);
  CHECK(error.found == "exit code 3; it said: no such kernel");
  CHECK(error.file == "change");
  CHECK(refused("sys.exit(0)\n").found == "no file for the changed kernel");
  CHECK(refused("open(sys.argv[2], 'w')\n").found == "an empty kernel");
  error = refused("import time\ntime.sleep(60)\n", "seconds = 1\n");
  CHECK(error.found == "it took longer than it had");
  error = refused(std::string(kShort) + "kernel += os.urandom(16)\n" + kWrite);
  CHECK(error.message.find("another kernel when it ran a second time") != std::string::npos);
  error =
      refused("import socket\ntry: socket.socket()\nexcept OSError as e: sys.exit(str(e.errno))\n");
  CHECK(error.found == "exit code 1; it said: 13");
}

TEST_CASE("kernel-program: a kernel that it broke is refused") {
  Error error = refused(std::string(kShort) + "kernel[56:60] = b'none'\n" + kWrite);
  CHECK(error.code == ErrorCode::Mismatch);
  CHECK(error.file == "change");
}

TEST_CASE("kernel-program: one that this machine does not start is told by its name") {
  const TempDir dir;
  write(dir / "change", "true # nobody gives this to a shell\n");
  write(dir / "r.toml",
        "format = 1\nname = \"k\"\n[[edit]]\nkind = \"kernel-program\"\nfrom = \"change\"\n");
  auto recipes = load_recipes({(dir / "r.toml").string()}, {});
  REQUIRE(recipes);
  const auto done = patch_image(load(image_with(gzip(kernel_of_release("5.10.1-korvale")))),
                                {.partition = "boot", .allow_programs = true}, *recipes);
  REQUIRE_FALSE(done);
  CHECK(done.error().file == "change");
  CHECK(done.error().hint.find("one file that this machine starts") != std::string::npos);
}

TEST_CASE("kernel-program: where no ramdisk tells that it was done, a second change is warned of") {
  const std::string image =
      BootBytes{.version = 4, .kernel = gzip(kernel_of_release("5.10.1-korvale"))}.done();
  const auto warns = [&](const std::string& body) {
    const Patched done = changed(Program(body), image);
    return std::ranges::any_of(done.notes, [](const Remark& note) {
      return note.text.find("would change this kernel once more") != std::string::npos;
    });
  };
  const std::string grows = "kernel += b'tide' * 2\n", done = "if kernel.endswith(b'tidetide'): ";
  CHECK(warns(kShort + grows + kWrite));
  CHECK_FALSE(warns(kShort + done + "grow = 0\nelse: " + grows + kWrite));
  CHECK_FALSE(warns(kShort + done + "sys.exit('done already')\n" + grows + kWrite));
}

TEST_CASE("kernel-program: after another kernel was put in, it is run on that one") {
  const std::string image = image_with(gzip(kernel_of_release("5.10.1-korvale")));
  const Program program(std::string(kShort) + "kernel += b'tide' * 2\n" + kWrite);
  write(program.dir / "Image", kernel_of_release("5.10.2-korvale"));
  write(program.dir / "r.toml",
        "format = 1\nname = \"k\"\n[[edit]]\nkind = \"part\"\npart = \"kernel\"\nfrom = "
        "\"Image\"\n[[edit]]\nkind = \"kernel-program\"\nfrom = \"change\"\n");
  const Patched done = changed(program, image);
  CHECK(unpacked(kernel_in(done)) == kernel_of_release("5.10.2-korvale") + "tidetide");
  check_undone(done, image);
}

TEST_CASE("kernel-program: mistakes in its table are told with their line") {
  const auto mistakes = [](const std::string& more) {
    const Program program("", more);
    const auto found = check_recipe((program.dir / "r.toml").string(), {});
    REQUIRE(found);
    std::vector<std::string> out;
    for (const Mistake& one : *found)
      out.push_back(fmt::format("{}:{} {}", one.line, one.column, one.message));
    return out;
  };
  CHECK(mistakes("").empty());
  CHECK(mistakes("arguments = [\"${in}\"]\n") ==
        std::vector<std::string>{"6:13 no argument is ${out}, so that the program does not get "
                                 "the name of that file"});
  CHECK(mistakes("seconds = 0\n") ==
        std::vector<std::string>{"6:11 seconds is out of range: 1 to 3600"});
  CHECK(mistakes("arguments = [\"${in}\", \"${out}\", \"${tide}\"]\n").size() == 1);
  CHECK(mistakes("seconds = 9999999\n").size() == 1);
}

}  // namespace wexlo::test
