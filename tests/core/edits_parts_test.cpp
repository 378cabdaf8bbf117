/// Edits of whole parts, of kernels and of fragments, and the protections that edits lower.

#include "core/edits_bench.hpp"

using namespace wexlo;
using namespace wexlo::test;

TEST_CASE("edits: lowered protections are told, each once") {
  const TempDir dir;
  const auto codes = [&](const std::string& edit, const std::string& image) {
    const auto done = patch_image(load(image), {"boot", true},
                                  load_example(dir, "format = 1\nname = \"x\"\n[[edit]]\n" + edit));
    REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
    std::string out;
    for (const Lowered& lowered : done->lowered)
      out += std::string(kind_of(lowered.code).name) + " ";
    return out;
  };
  const std::string boot =
      BootBytes{
          .version = 2, .kernel = rich_kernel(), .ramdisk = rich_archive(), .dtb = rich_tree()}
          .done();
  CHECK(codes("kind = \"fstab-drop\"\nmount_point = \"*\"\nflags = [\"avb\"]\n", boot) ==
        "protection-mount-verification ");
  CHECK(codes("kind = \"cmdline\"\nset = { \"androidboot.selinux\" = \"permissive\" }\n", boot) ==
        "protection-selinux ");
  CHECK(codes("kind = \"property\"\nset = { \"ro.debuggable\" = \"1\" }\n", boot) ==
        "protection-debugging ");
  CHECK(codes("kind = \"property\"\nset = { \"ro.tide\" = \"1\" }\n", boot).empty());
  CHECK(codes("kind = \"vbmeta-flags\"\nset = [\"verification-disabled\"]\n",
              vbmeta(test::property_descriptor("a", "b"), 0, 1)) == "protection-verified-boot ");
  CHECK(codes("kind = \"vbmeta-flags\"\nset = [\"hashtree-disabled\"]\n",
              vbmeta(test::property_descriptor("a", "b"), 0, 1)) ==
        "protection-mount-verification ");
}

TEST_CASE("edits: kernels in every form take a byte pattern; with the wrong count none does") {
  const std::string kernel = rich_kernel(), tree = rich_tree();
  const TempDir dir;
  const std::string edit =
      "format = 1\nname = \"x\"\n[[edit]]\nkind = \"kernel-bytes\"\nfind_text = "
      "\"skip_initramfs\"\n"
      "replace_text = \"wexlo_ramdisks\"\n";
  for (const std::string& section :
       {kernel, test::gzip(kernel, 9), test::lz4_legacy(kernel), test::lz4_legacy(kernel, true),
        test::xz(kernel), test::lzma(kernel), test::bzip2(kernel), test::zstd(kernel),
        test::lz4_frame(kernel)})
    for (const std::string& behind : {std::string(), tree, tree + tree}) {
      const std::string stock =
          BootBytes{
              .version = 2, .kernel = section + behind, .ramdisk = rich_archive(), .dtb = tree}
              .done();
      const auto done = patch_image(load(stock), {"boot", true}, load_example(dir, edit));
      REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
      const auto image = load(text(done->bytes));
      const Blob now = image.image->section("kernel")->bytes;
      const auto body = kernel::open_body(now);
      REQUIRE(body);
      std::string wanted = kernel;
      wanted.replace(wanted.find("skip_initramfs"), 14, "wexlo_ramdisks");
      CHECK(text(body->decoded.view()).starts_with(wanted));
      CHECK(text(now.view()).ends_with(behind));
      check_undone(*done, stock);
    }
  const std::string stock =
      BootBytes{.kernel = test::gzip(kernel + kernel), .ramdisk = rich_archive()}.done();
  const auto refused = patch_image(load(stock), {"boot", true}, load_example(dir, edit));
  REQUIRE_FALSE(refused);
  CHECK(refused.error().code == ErrorCode::BadValue);
  CHECK(refused.error().expected == "1");
  CHECK(refused.error().found == "2");
  CHECK(patch_image(load(stock), {"boot", true}, load_example(dir, edit + "count = 2\n")));
  const auto any = load_example(dir, edit + "count = \"any\"\n");
  const auto both = patch_image(load(stock), {"boot", true}, any);
  REQUIRE(both);
  CHECK(both->edits.front().effects.size() == 2);
  CHECK_FALSE(patch_image(load(text(both->bytes)), {"boot", true}, any)->changed);
  check_undone(*both, stock);
}

TEST_CASE("edits: whole parts are held against the stock ones") {
  const TempDir dir;
  const std::string stock = BootBytes{.version = 2,
                                      .kernel = test::gzip(rich_kernel()) + rich_tree(),
                                      .ramdisk = rich_archive(),
                                      .dtb = rich_tree()}
                                .done();
  const auto put = [&](const std::string& part, const std::string& file, const std::string& more) {
    test::write(dir / "part", file);
    return patch_image(load(stock), {"boot", true},
                       load_example(dir,
                                    "format = 1\nname = \"x\"\n[[edit]]\nkind = \"part\"\n"
                                    "from = \"part\"\npart = \"" +
                                        part + "\"\n" + more));
  };
  const auto code = [&](const std::string& part, const std::string& file,
                        const std::string& more = "") {
    const auto done = put(part, file, more);
    return done ? std::string("done") : std::string(code_name(done.error().code));
  };
  CHECK(code("kernel", arm64_kernel("5.10.99-other")) == "done");
  CHECK(code("kernel", arm64_kernel("5.15.1-other")) == "mismatch");
  CHECK(code("kernel", arm64_kernel("5.15.1-other"), "other_version = true\n") == "done");
  CHECK(code("kernel", arm64_kernel("5.10.1-android12-9-x")) == "mismatch");
  CHECK(code("dtb", rich_tree() + rich_tree()) == "done");
  CHECK(code("dtb", device_tree("Other", "other,phone")) == "mismatch");
  CHECK(code("dtb", "no tree at all") == "mismatch");
  CHECK(code("ramdisk", test::gzip(rich_archive() + rich_archive())) == "done");
  CHECK(code("ramdisk", test::lz4_frame(rich_archive())) == "mismatch");
  CHECK(code("ramdisk", CpioBytes{}.file("a", "b").done()) == "mismatch");
  CHECK(code("ramdisk", CpioBytes{}.file("init", elf("x86_64", "x"), 0100755).done()) ==
        "mismatch");
  CHECK(code("ramdisk", "nothing of the kind") == "bad-magic");
  // A new kernel without trees gets the stock ones, and the way back is the stock kernel whole.
  const auto done = put("kernel", test::lz4_legacy(arm64_kernel("5.10.99-other")), "");
  REQUIRE(done);
  CHECK(std::ranges::any_of(done->edits[0].details, [](const std::string& line) {
    return line.starts_with("kernel 5.10") && line.ends_with("-> 5.10.99-other");
  }));
  const auto image = load(text(done->bytes));
  CHECK(text(image.image->section("kernel")->bytes.view()).ends_with(rich_tree()));
  check_undone(*done, stock);
}

TEST_CASE("edits: recovery's ramdisk is a fragment of vendor_boot where there is one") {
  const TempDir dir;
  VendorBootBytes bytes;
  bytes.named = {{"", 1, test::lz4_legacy(first_ramdisk())},
                 {"rec", 2, test::lz4_legacy(CpioBytes{}.file("a", "b").done())}};
  const auto done =
      patch_image(load(bytes.done()), {"vendor_boot", true},
                  load_example(dir,
                               "format = 1\nname = \"x\"\n[[edit]]\nkind = \"chmod\"\nramdisk = "
                               "\"recovery\"\npath = \"a\"\nmode = 0o600\n"));
  REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
  CHECK(done->edits[0].outcome == Outcome::Applied);
}
