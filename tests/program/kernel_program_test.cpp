/// Programs of recipes, from the command line: what allows them, in every command that runs one.

#include "program/kits_bench.hpp"

namespace wexlo::test {
namespace {

/// Writes down that it ran, and adds a text to the kernel.
void write_recipe(const TempDir& dir) {
  write(dir / "change",
        "#!/usr/bin/env python3\nimport sys\nran, before, after = sys.argv[1:]\n"
        "open(ran, 'a').write('x')\n"
        "open(after, 'wb').write(open(before, 'rb').read() + b'tide' * 4)\n");
  write(dir / "change.toml",
        "format = 1\nname = \"change\"\n[parameters.ran]\nabout = \"where it is told that the "
        "program "
        "ran\"\n[[edit]]\nkind = \"kernel-program\"\nfrom = \"change\"\narguments = [\"${ran}\", "
        "\"${in}\", \"${out}\"]\n");
}

}  // namespace

TEST_CASE("kernel-program: no command runs a recipe's program unless it is told so") {
  const Bench bench;
  const TempDir& dir = bench.dir;
  write_recipe(dir);
  const std::string ran = (dir / "ran").string();
  const auto call = [&](std::vector<std::string> words, bool allow) {
    std::filesystem::remove(ran);
    if (allow) words.emplace_back("--allow-programs");
    return program(dir, words);
  };
  const auto refused = [&](const std::vector<std::string>& words) {
    CAPTURE(words.front());
    const Ran done = call(words, false);
    CAPTURE(done.err);
    CHECK(done.exit_code == 1);
    CHECK(done.err.find("--allow-programs") != std::string::npos);
    CHECK_FALSE(std::filesystem::exists(ran));
  };
  const auto allowed = [&](const std::vector<std::string>& words) {
    const Ran done = call(words, true);
    CAPTURE(done.err);
    CHECK(done.exit_code == 0);
    // Twice, for it has to make the same kernel each time; and on its own result, for boot has no
    // ramdisk that tells that it was run.
    CHECK(read(ran) == "xxx");
    return done;
  };
  REQUIRE(program(dir, {"extract", "ota.zip", "boot", "-o", "images"}).exit_code == 0);
  const std::vector<std::string> recipe{"-r", "change.toml", "--set", "ran=" + ran};
  const auto with_recipe = [&](std::vector<std::string> words) {
    words.insert(words.end(), recipe.begin(), recipe.end());
    return words;
  };
  refused(with_recipe({"patch", "images/boot.img", "--dry-run"}));
  refused(with_recipe({"patch", "images/boot.img", "-o", "patched.img"}));
  CHECK_FALSE(std::filesystem::exists(dir / "patched.img"));
  const Ran dry = allowed(with_recipe({"patch", "images/boot.img", "--dry-run", "--json"}));
  CHECK(Json::parse(dry.out)["result"]["edits"][0]["kind"] == "kernel-program");
  CHECK(dry.out.find("would change this kernel once more") != std::string::npos);
  allowed(with_recipe({"patch", "images/boot.img", "-o", "patched.img"}));
  const Ran compared = program(dir, {"compare", "images/boot.img", "patched.img"});
  CHECK(compared.exit_code == 1);
  CHECK(compared.out.find("kernel") != std::string::npos);

  refused(with_recipe({"prepare", "ota.zip", "-o", "kit"}));
  CHECK_FALSE(std::filesystem::exists(dir / "kit"));
  allowed(with_recipe({"prepare", "ota.zip", "-o", "kit"}));
  // What the kit carries is allowed by nobody who got the kit.
  refused({"check", "kit", "--remake", "ota.zip"});
  const Ran again = allowed({"check", "kit", "--remake", "ota.zip", "--json"});
  CHECK(Json::parse(again.out)["result"]["remade"]["outcome"] == "same");
  refused({"prepare", "ota.zip", "--like", "kit", "-o", "kit-2"});
  allowed({"prepare", "ota.zip", "--like", "kit", "-o", "kit-2"});
  CHECK(program(dir, {"check", "kit", "--allow-programs"}).exit_code == 2);

  write(dir / "tray.toml",
        "format = 1\n[[job]]\nfirmware = \"ota.zip\"\nrecipes = [\"change.toml\"]\nkit = "
        "\"kit-3\"\nset = { ran = \"" +
            ran + "\" }\n");
  std::filesystem::remove(ran);
  const Ran tray = program(dir, {"batch", "tray.toml", "--no-cache"});
  CAPTURE(tray.err);
  CHECK(tray.exit_code == 1);
  CHECK_FALSE(std::filesystem::exists(ran));
  allowed({"batch", "tray.toml", "--no-cache"});
}

}  // namespace wexlo::test
