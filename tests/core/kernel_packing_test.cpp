/// A plain kernel in the place of a packed one: from a recipe, and out of a parts folder.

#include "core/edits_bench.hpp"
#include "core/parts_bench.hpp"
#include "image/part_header.hpp"

namespace wexlo::test {

namespace {

const std::string kPackedRelease = "5.10.157-android13-4-00001";

/// A kernel that can be told from another by its end.
std::string plain_kernel(std::size_t more) {
  std::string out = arm64_kernel(kPackedRelease) + noise(100, 5);
  for (std::size_t i = 0; i < more; ++i)
    out += "words that pack well ";
  return padded(out, 8);
}

std::string small_ramdisk() {
  return gzip(CpioBytes{}.file("init", elf("arm64", "stock")).done());
}

std::string kernel_section(View image) {
  return text(load(text(image)).image->section("kernel")->bytes.view());
}

/// By a program that has nothing to do with this one.
std::string unpacked_by(const std::string& program, const std::string& packed) {
  const TempDir dir;
  write(dir / "k", packed);
  const Ran ran = shell(program + " " + (dir / "k").string());
  CHECK(ran.exit_code == 0);
  return ran.out;
}

struct Packing {
  const char* name;
  std::string (*pack)(const std::string& plain);
  const char* program;
};
const Packing kPackings[] = {
    {"gzip", [](const std::string& plain) { return gzip(plain, 9); }, "gzip -dc <"},
    {"lz4-legacy", [](const std::string& plain) { return lz4_legacy(plain); }, "lz4 -dc"},
    {"lz4-frame", [](const std::string& plain) { return lz4_frame(plain); }, "lz4 -dc"},
    {"xz", [](const std::string& plain) { return xz(plain); }, "xz -dc <"}};

/// What stands before the trees, which have to be for this model; empty: there are none.
std::string without_trees(const std::string& section, const std::string& model) {
  const kernel::Kernel read = kernel::read(blob(section));
  if (model.empty()) {
    CHECK(read.trees.empty());
    return section;
  }
  const auto trees = dt::blobs(read.trees);
  REQUIRE(trees.size() == 1);
  CHECK(trees.front().facts.model == model);
  return section.substr(0, read.trees_at);
}

}  // namespace

TEST_CASE("part: a plain kernel is packed as the stock one, with its trees, and comes out again") {
  const std::string tree = device_tree("Tarn 2", "korvale,vernier"), fresh = plain_kernel(9000);
  for (const Packing& one : kPackings)
    for (const std::string& trees : {std::string(), tree}) {
      CAPTURE(one.name);
      CAPTURE(trees.size());
      const std::string image = BootBytes{.version = 2,
                                          .kernel = one.pack(plain_kernel(4000)) + trees,
                                          .ramdisk = small_ramdisk()}
                                    .done();
      const TempDir dir;
      write(dir / "Image", fresh);
      const auto patch = [&](const std::string& more) {
        write(dir / "r.toml",
              "format = 1\nname = \"k\"\n[[edit]]\nkind = \"part\"\npart = "
              "\"kernel\"\nfrom = \"Image\"\n" +
                  more);
        const auto recipes = value_of(load_recipes({(dir / "r.toml").string()}, {}));
        auto done = patch_image(load(image), {"boot", true}, recipes);
        REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
        check_undone(*done, image);
        const auto twice = patch_image(load(text(done->bytes.view())), {"boot", true}, recipes);
        CHECK_FALSE(value_of(twice).changed);
        return kernel_section(done->bytes.view());
      };
      const std::string model = trees.empty() ? "" : "Tarn 2";
      const std::string packed = without_trees(patch(""), model);
      CHECK(packed.size() < fresh.size());
      CHECK(unpacked_by(one.program, packed) == fresh);
      CHECK(without_trees(patch("pack = \"none\"\n"), model) == fresh);
    }
}

TEST_CASE("part: lz4 of a kernel keeps its size word, and a chipset's header says the new size") {
  const std::string fresh = plain_kernel(9000);
  const std::string stock = lz4_legacy(plain_kernel(4000), true);
  const std::string image = BootBytes{.version = 2,
                                      .kernel = chipset_header("KERNEL", stock) + stock,
                                      .ramdisk = small_ramdisk()}
                                .done();
  const PartsBench bench(image);
  CHECK(read(bench / "kernel.image") == plain_kernel(4000));
  write(bench / "kernel.image", fresh);
  const std::string section = kernel_section(bench.repack().bytes.view());
  CHECK(part_header::looks_like(as_view(section)));
  const std::string packed = section.substr(part_header::kSize);
  CHECK(section == chipset_header("KERNEL", packed) + packed);
  CHECK(packed.ends_with(le32(static_cast<std::uint32_t>(fresh.size()))));
  CHECK(told(bench.repack()) == "kernel kernel kernel.image\n");
}

TEST_CASE("parts: the plain kernel is packed again at any size, with its trees and an edited one") {
  const std::string tree = device_tree("Tarn 2", "korvale,vernier");
  for (const Packing& one : kPackings) {
    CAPTURE(one.name);
    const std::string image =
        BootBytes{
            .version = 2, .kernel = one.pack(plain_kernel(4000)) + tree, .ramdisk = small_ramdisk()}
            .done();
    const PartsBench bench(image);
    CHECK(text(bench.repack().bytes.view()) == image);
    for (const std::size_t more : {10u, 4001u, 20000u}) {
      write(bench / "kernel.image", plain_kernel(more));
      const std::string packed =
          without_trees(kernel_section(bench.repack().bytes.view()), "Tarn 2");
      CHECK(unpacked_by(one.program, packed) == plain_kernel(more));
    }
    const std::string other = device_tree("Tarn 2 of the bench", "korvale,vernier");
    write(bench / "kernel-tree-0.dtb", other);
    const std::string packed =
        without_trees(kernel_section(bench.repack().bytes.view()), "Tarn 2 of the bench");
    CHECK(unpacked_by(one.program, packed) == plain_kernel(20000));
    // Both the packed and the plain one: which is meant nobody can tell.
    write(bench / "kernel.bin", one.pack(plain_kernel(5)));
    const auto both = parts::repack(bench.folder());
    REQUIRE_FALSE(both);
    CHECK(both.error().message.find("both edited") != std::string::npos);
  }
}

TEST_CASE("parts: an edited tree behind a kernel in a chipset's header: the header says the size") {
  const std::string tree = device_tree("Tarn 2", "korvale,vernier");
  const std::string body = gzip(plain_kernel(40)) + tree;
  const PartsBench bench(BootBytes{
      .version = 2, .kernel = chipset_header("KERNEL", body) + body, .ramdisk = small_ramdisk()}
                             .done());
  const std::string other = device_tree("a longer name of the same phone", "korvale,vernier");
  write(bench / "kernel-tree-0.dtb", other);
  const std::string section = kernel_section(bench.repack().bytes.view());
  CHECK(section.starts_with(chipset_header("KERNEL", section.substr(part_header::kSize))));
  CHECK(without_trees(section, "a longer name of the same phone").size() >
        part_header::kSize + gzip(plain_kernel(40)).size() - 1);
}

TEST_CASE("parts: a kernel that is all of its part has no plain copy beside it") {
  const PartsBench bench(
      BootBytes{.version = 2, .kernel = plain_kernel(4), .ramdisk = small_ramdisk()}.done());
  CHECK_FALSE(std::filesystem::exists(bench / "kernel.image"));
  const PartsBench empty(
      BootBytes{.version = 2, .kernel = gzip(plain_kernel(4)), .ramdisk = small_ramdisk()}.done());
  write(empty / "kernel.image", "");
  CHECK_FALSE(parts::repack(empty.folder()));
}

}  // namespace wexlo::test
