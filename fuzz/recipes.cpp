/// Recipes, patches and the way back.

#include "base/delta.hpp"
#include "base/digest.hpp"
#include "image/words.hpp"
#include "recipe/patch.hpp"
#include "recipe/recipe.hpp"
#include "recipe/restore.hpp"
#include "recipe/way_back.hpp"
#include "support/boot.hpp"
#include "support/vbmeta.hpp"
#include "target.hpp"

namespace wexlo::fuzz {
namespace {

/// A recipe's files, without the machine's: none is there but one.
class OneFile final : public FileStore {
 public:
  Result<Blob> read(const FileRef& file) const override {
    if (file.from == "new") return test::blob("new");
    return fail({.code = ErrorCode::NotFound, .message = "none"});
  }
  Result<std::vector<NamedFile>> tree(const FileRef&) const override {
    return std::vector<NamedFile>{{"a", test::blob("a")}, {"b/c", test::blob("c")}};
  }
};

constexpr std::string_view kEdits = R"(
format = 1
name = "fuzz"
[[edit]]
kind = "put"
path = "a/b"
from = "new"
[[edit]]
kind = "remove"
path = "system/etc"
may_miss = true
[[edit]]
kind = "move"
path = "init"
to = "moved/init"
may_miss = true
[[edit]]
kind = "fstab-drop"
mount_point = "*"
flags = ["avb"]
may_miss = true
[[edit]]
kind = "cmdline"
add = ["tide"]
remove = ["console"]
may_miss = true
[[edit]]
kind = "kernel-bytes"
find = "0102"
replace = "0201"
may_miss = true
[[edit]]
kind = "dt-property"
node = "/"
property = "tide"
text = "x"
may_miss = true
[[edit]]
kind = "bootconfig"
set = { "a.b" = "c d" }
may_miss = true
)";

Context bounded() {
  Context context;
  context.decode_bound = 4u << 20;
  return context;
}

}  // namespace

void recipe(View input) {
  const auto files = std::make_shared<OneFile>();
  auto read = read_recipe(as_text(input), "input", files, {});
  (void)describe_recipe(as_text(input), "input");
  if (!read) return;
  for (const Edit& edit : read->edits)
    (void)edit.summary();
  // Read again it is the same edits: a kit carries its text.
  const auto again = read_recipe(read->text, "again", files, {});
  must(again && again->edits.size() == read->edits.size());
  for (std::size_t i = 0; i < again->edits.size(); ++i)
    must(again->edits[i].digest() == read->edits[i].digest());
}

std::vector<std::string> recipe_seeds() {
  std::vector<std::string> seeds{std::string(kEdits)};
  for (const BundledRecipe& one : bundled_recipes())
    seeds.emplace_back(one.text);
  return seeds;
}

/// Whatever image the patch takes, its account has to close, twice has to be once, and the way back
/// has to be one.
void patch(View input) {
  const auto loaded = load_image(Blob(to_bytes(input)), "input");
  if (!loaded || !loaded->image) return;
  static const Recipe edits = *read_recipe(kEdits, "fuzz", std::make_shared<OneFile>(), {});
  const auto patched = wexlo::patch_image(*loaded, {"boot", true}, {edits}, bounded());
  if (!patched) {
    must(patched.error().code != ErrorCode::Unexplained);
    return;
  }
  const auto again = load_image(patched->bytes, "again");
  must(again && again->image);
  const auto twice = wexlo::patch_image(*again, {"boot", true}, {edits}, bounded());
  must(twice && equal(twice->bytes, patched->bytes));
  if (!patched->changed || !patched->way_back.in_image) return;
  const auto back = restore_image(*again, {}, bounded());
  must(back && (equal(back->bytes, input) || find_journal(*loaded, bounded())));
}

std::vector<std::string> patch_seeds() {
  using namespace test;
  std::vector<std::string> seeds;
  for (const std::string& ramdisk :
       {first_ramdisk(), gzip(first_ramdisk()), lz4_legacy(first_ramdisk())})
    for (const unsigned version : {0u, 2u, 4u}) {
      BootBytes b{.version = version, .page = 2048, .kernel = noise(100), .ramdisk = ramdisk};
      b.kernel += "\1\2" + test::device_tree("Korvale", "korvale,x");
      seeds.push_back(b.done());
      seeds.push_back(with_footer(b.done(), "boot", 1u << 15));
    }
  VendorBootBytes vendor{.ramdisk = first_ramdisk(), .bootconfig = "a.b = 1\n"};
  vendor.dtb = test::device_tree("Korvale", "korvale,x");
  seeds.push_back(vendor.done());
  return seeds;
}

/// An image that says it was patched: what comes back is what its journal recorded, or nothing.
void restore(View input) {
  const auto loaded = load_image(Blob(to_bytes(input)), "input");
  if (!loaded || !loaded->image) return;
  const auto journal = find_journal(*loaded, bounded());
  const auto back = restore_image(*loaded, {}, bounded());
  if (back && back->from == RestoredFrom::Image)
    must(journal && *journal && sha256_hex(back->bytes) == (*journal)->stock_sha256);
}

std::vector<std::string> restore_seeds() {
  std::vector<std::string> seeds;
  static const Recipe edits = *read_recipe(kEdits, "fuzz", std::make_shared<OneFile>(), {});
  for (const std::string& seed : patch_seeds()) {
    const auto loaded = load_image(test::blob(seed), "seed");
    const auto patched = wexlo::patch_image(*loaded, {"boot", true}, {edits});
    if (patched) seeds.push_back(test::text(patched->bytes.view()));
  }
  return seeds;
}

/// The first half against the second; then all of it as a difference; then as words.
void difference(View input) {
  const View source = input.first(input.size() / 2), target = input.subspan(input.size() / 2);
  const auto back = apply_delta(source, make_delta(source, target), target.size());
  must(back && equal(*back, target));
  const auto hostile = apply_delta(source, target, 1u << 20);
  must(!hostile || hostile->size() <= (1u << 20));
  const std::string text(as_text(input));
  const std::string set = words::set(text, "tide", "1");
  must(words::set(set, "tide", "1") == set);
  const std::string without = words::remove(set, "tide");
  must(words::remove(without, "tide") == without);
  const std::string config = words::set_bootconfig(text, "tide.a", "x y");
  must(words::set_bootconfig(config, "tide.a", "x y") == config);
}

std::vector<std::string> difference_seeds() {
  return {std::string("console=ttyKV0 quiet tide=0 \"a b\" console=ttyKV0 quiet tide=0 \"a b\""),
          "a.b = 1; tide.a=\"x;y\"\n# c\ntide.a\n", test::noise(600) + test::noise(600)};
}

}  // namespace wexlo::fuzz
