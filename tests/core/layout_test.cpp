#include "ramdisk/layout.hpp"

#include "image/boot.hpp"
#include "image/kernel.hpp"
#include "judge/origin.hpp"
#include "kit/facts/target.hpp"
#include "recipe/patch.hpp"
#include "recipe/restore.hpp"
#include "support/patching.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

Ramdisk parsed(CpioBytes entries) {
  return *parse_ramdisk(blob(entries.done()));
}

CpioBytes base() {
  return CpioBytes{}.file("init", elf("arm64", "init"), 0100750);
}

CpioBytes with_recovery() {
  return base().folder("sbin").file("sbin/recovery", elf("arm64", "r"), 0100750);
}

/// A phone whose boot ramdisk is recovery's alone.
std::string system_root_boot(const std::string& word = "skip_initramfs") {
  std::string kernel = arm64_kernel("4.9.1-korvale");
  kernel += std::string(1, '\0') + word + std::string(9, '\0');
  return BootBytes{.version = 1,
                   .page = 2048,
                   .kernel = test::gzip(padded(kernel, 8)),
                   .ramdisk = test::gzip(with_recovery().file("default.prop", "a=b\n").done())}
      .done();
}

Recipe put_at(const std::string& place) {
  Recipe recipe{.name = "tests"};
  recipe.edits.push_back({.kind = "put", .recipe = "tests", .settings = place});
  recipe.edits.back().what = PutEdit{
      .path = place, .from = {.bound = true, .files = {{"", blob(elf("arm64", "the add-on"))}}}};
  return recipe;
}

}  // namespace

TEST_CASE("layouts: told apart by what is in the ramdisk") {
  const auto layout = [](CpioBytes entries, LayoutSigns signs) {
    return std::string(layout_name(layout_of(parsed(std::move(entries)), signs)));
  };
  const auto skips = [] { return true; };
  const auto asked_in_vain = []() -> bool { throw 1; };
  CHECK(layout(base().file("init.rc", ""), {"boot", "boot", 1}) == "ramdisk-root");
  CHECK(layout(base().file("sepolicy", ""), {"boot", "boot", 0}) == "ramdisk-root");
  CHECK(layout(base(), {"boot", "boot", 2}) == "two-stage");
  CHECK(layout(with_recovery(), {"boot", "boot", 2, false, skips}) == "system-root");
  CHECK(layout(with_recovery(), {"boot", "boot", 2}) == "two-stage-recovery");
  CHECK(layout(with_recovery().folder("first_stage_ramdisk"),
               {"boot", "boot", 2, false, asked_in_vain}) == "two-stage-recovery");
  // A recovery_dtbo tells where the partition's name does not.
  CHECK(layout(with_recovery(), {"boot", "", 2, true}) == "recovery");
  CHECK(layout(with_recovery(), {"boot", "boot", 2, true}) == "two-stage-recovery");
  CHECK(layout(with_recovery(), {"boot", "recovery", 2, false, skips}) == "recovery");
  CHECK(layout(base(), {"boot", "init_boot", 4}) == "generic");
  CHECK(layout(base(), {"boot", "boot", 3}) == "generic");
  CHECK(layout(base(), {"vendor_boot", "vendor_boot", 4}) == "vendor");
}

TEST_CASE("layouts: the processor is init's, links followed, else any program's") {
  CHECK(architecture_of(parsed(base())) == "arm64");
  CHECK(architecture_of(parsed(CpioBytes{}
                                   .link("init", "/system/bin/init")
                                   .file("other", elf("x86_64", ""))
                                   .folder("system")
                                   .folder("system/bin")
                                   .file("system/bin/init", elf("arm", "")))) == "arm");
  CHECK(architecture_of(parsed(
            CpioBytes{}.link("init", "init").file("a.ko", elf("riscv64", "")))) == "riscv64");
  CHECK(architecture_of(parsed(CpioBytes{}.file("init", "#!/bin/sh\n"))).empty());
  CHECK_FALSE(resolve(parsed(CpioBytes{}.link("a", "../../b")), "a"));
}

TEST_CASE("layouts: where the kernel skips the ramdisk, a new /init changes its word by itself") {
  const std::string stock = system_root_boot();
  const auto done = patch_image(load(stock), {"boot", true}, {put_at("init")});
  REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
  REQUIRE(done->added.size() == 1);
  CHECK(done->added[0].recipe == "(layout)");
  CHECK(done->added[0].why.find("would never run") != std::string::npos);
  const auto image = load(text(done->bytes));
  const auto decoded = decode(Compression::Gzip, image.image->section("kernel")->bytes.view());
  REQUIRE(decoded);
  const std::string kernel = text(decoded->bytes.view());
  CHECK(kernel.find("skip_initramfs") == std::string::npos);
  CHECK(kernel.find("wexlo_ramdisks") != std::string::npos);
  CHECK(done->way_back.in_image);
  const auto twice = patch_image(image, {"boot", true}, {put_at("init")});
  REQUIRE(twice);
  CHECK_FALSE(twice->changed);
  // From then on the ramdisk runs in a normal start, and other edits in it act there.
  const auto later = patch_image(image, {"boot", true}, {put_at("sbin/tool")});
  REQUIRE(later);
  CHECK(later->changed);
  for (const Remark& note : later->notes)
    CHECK(note.text.find("no effect") == std::string::npos);
  // Another file there has no effect on a normal start: said, and the kernel is left alone.
  const auto other = patch_image(load(stock), {"boot", true}, {put_at("sbin/tool")});
  REQUIRE(other);
  CHECK(other->added.empty());
  REQUIRE_FALSE(other->notes.empty());
  CHECK(other->notes[0].text.find("no effect on a normal start") != std::string::npos);
}

namespace {

std::string kernel_in(View bytes) {
  const auto image = load(text(bytes));
  return text(kernel::open_body(image.image->section("kernel")->bytes)->decoded.view());
}

}  // namespace

TEST_CASE("layouts: every whole word that skips the ramdisk is changed, and no part of another") {
  const std::string words =
      std::string("skip_initramfs\0a_skip_initramfs\0skip_initramfs.x\0skip_initramfs2\0", 67);
  const std::string stock = system_root_boot(words);
  const auto done = patch_image(load(stock), {"boot", true}, {put_at("init")});
  REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
  REQUIRE(done->added.size() == 1);
  CHECK(done->added[0].effects.size() == 2);
  const std::string kernel = kernel_in(done->bytes.view());
  CHECK(kernel.contains(
      std::string("wexlo_ramdisks\0a_skip_initramfs\0wexlo_ramdisks.x\0skip_initramfs2\0", 67)));
  CHECK(done->way_back.in_image);
  const auto back = restore_image(load(text(done->bytes)), {}, {});
  REQUIRE(back);
  check_same(back->bytes, as_view(stock));
}

TEST_CASE("layouts: an /init runs whatever the layout is called: kernel, command line, trees") {
  std::string kernel = arm64_kernel("4.14.1-korvale");
  kernel += std::string("\0skip_initramfs\0", 16);
  for (const unsigned version : {0u, 1u, 2u}) {
    CAPTURE(version);
    // No recovery in it: a ramdisk of its own, by its look.
    BootBytes boot{.version = version,
                   .page = 2048,
                   .kernel = test::gzip(padded(kernel, 8)),
                   .ramdisk = test::gzip(base().file("init.rc", "").done()),
                   .cmdline = "console=null skip_initramfs rootwait"};
    if (version == 2) boot.dtb = device_tree("Tarn 1", "korvale,plumbline", "quiet skip_initramfs");
    const std::string stock = boot.done();
    const auto done = patch_image(load(stock), {"boot", true}, {put_at("init")});
    REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
    REQUIRE(done->added.size() == 1);
    CHECK(done->added[0].outcome == Outcome::Applied);
    CHECK(done->added[0].why.contains("a loader may ask for it"));
    CHECK_FALSE(kernel_in(done->bytes.view()).contains("skip_initramfs"));
    CHECK(wexlo::boot::cmdline(*load(text(done->bytes)).image) ==
          "console=null wexlo_ramdisks rootwait");
    if (version == 2)
      CHECK(text(load(text(done->bytes)).image->section("dtb")->bytes.view())
                .contains("quiet wexlo_ramdisks"));
    const auto twice = patch_image(load(text(done->bytes)), {"boot", true}, {put_at("init")});
    REQUIRE(twice);
    CHECK_FALSE(twice->changed);
    const auto back = restore_image(load(text(done->bytes)), {}, {});
    REQUIRE_MESSAGE(back, (back ? "" : describe(back.error())));
    check_same(back->bytes, as_view(stock));
    // A file that is not init's place leaves the kernel alone.
    const auto other = patch_image(load(stock), {"boot", true}, {put_at("sbin/tool")});
    REQUIRE(other);
    CHECK(other->added.empty());
  }
}

TEST_CASE(
    "layouts: a kernel in which another tool changed the word counts as done, and is a sign") {
  const std::string other = system_root_boot("hold_initramfs");
  const auto done = patch_image(load(other), {"boot", true}, {put_at("init")});
  REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
  REQUIRE(done->added.size() == 1);
  CHECK(done->added[0].outcome == Outcome::AlreadyDone);
  CHECK(done->added[0].details.front().contains("hold_initramfs"));
  CHECK(kernel_in(done->bytes.view()).contains("hold_initramfs"));
  const LoadedImage image = load(other);
  const ImageReading reading = value_of(read_deep(image, {}));
  const Origin origin = judge_origin(*image.image, reading, {}, {});
  CHECK(std::ranges::any_of(origin.signs, [](const Sign& one) {
    return one.kind == SignKind::RamdiskWord && one.text.contains("hold_initramfs");
  }));
  CHECK(kernel::other_ramdisk_word(as_view(std::string("\0hold_initramfs\0", 16))) ==
        "hold_initramfs");
  for (const char* none : {"skip_initramfs", "rehold_initramfs", "hold_initramfs2", "x_initramfs"})
    CHECK(kernel::other_ramdisk_word(as_view('\0' + std::string(none) + '\0')).empty());
}

TEST_CASE("target: each layout's image, with the reason; recovery where boot has no ramdisk") {
  const LoadedImage skipped = load(system_root_boot());
  const auto first = choose_target({{"boot", &skipped}});
  REQUIRE(first);
  CHECK(first->layout == RamdiskLayout::SystemRoot);
  CHECK(first->reason.find("told to skip it") != std::string::npos);
  const LoadedImage bare = load(BootBytes{.version = 1, .kernel = arm64_kernel("4.9.1-x")}.done());
  const LoadedImage recovery =
      load(BootBytes{.version = 1, .kernel = noise(90), .ramdisk = with_recovery().done()}.done());
  const auto second = choose_target({{"boot", &bare}, {"recovery", &recovery}});
  REQUIRE(second);
  CHECK(second->partition == "recovery");
  CHECK(second->layout == RamdiskLayout::Recovery);
  CHECK(second->reason.find("started into recovery") != std::string::npos);
  CHECK(choose_target({{"boot", &bare}}).error().code == ErrorCode::NoTarget);
}
