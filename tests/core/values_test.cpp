/// What recipes can name of phone and image: in texts, paths, files and conditions.

#include "core/edits_bench.hpp"
#include "image/kernel_release.hpp"
#include "job/patch.hpp"

namespace wexlo::test {

namespace {

const std::string kValuesHead = "format = 1\nname = \"tide\"\n";
const std::string kGenericRelease = "5.15.94-android13-8-00001-g0123456789ab";

/// A recipe of one text, at /conf.
std::string of_text(const std::string& text, const std::string& more = "") {
  return kValuesHead + "[[edit]]\nkind = \"put\"\npath = \"conf\"\ntext = \"" + text + "\"\n" +
         more;
}

std::string generic_boot(const std::string& kernel_release = kGenericRelease,
                         unsigned version = 2) {
  return BootBytes{.version = version,
                   .kernel = kernel_release.empty() ? "" : arm64_kernel(kernel_release),
                   .ramdisk = gzip(CpioBytes{}
                                       .file("init", elf("arm64", "stock"))
                                       .file("default.prop",
                                             "ro.build.version.sdk=33\n"
                                             "ro.bootimage.build.fingerprint=korvale/tarn:13\n")
                                       .done())}
      .done();
}

/// As `patch` does it, with what is told of the phone.
Result<Patched> patch_told(const std::string& recipe, const std::string& image,
                           const Values& told = {}, const std::string& partition = "boot") {
  const TempDir dir;
  write(dir / "r.toml", recipe);
  write(dir / "tide-android13-5.15.ko", "for 5.15");
  write(dir / "lib-aa64", "a program");
  auto recipes = value_of(load_recipes({(dir / "r.toml").string()}, told));
  const LoadedImage stock = load(image);
  return patch_loaded(stock, {partition, true}, recipes, {.told = told}, {}, {});
}

std::string conf(const Result<Patched>& done, const std::string& place = "conf") {
  if (!done) return describe(done.error());
  return at(ramdisk_of(done->bytes.view()), place);
}

}  // namespace

TEST_CASE("values: a text has what phone and image are") {
  const std::string image = generic_boot();
  const std::string recipe = of_text(
      "${arch} ${sdk} ${kmi} ${kernel_release} ${patch_level} ${build} ${partition} "
      "${layout} $${arch} $$ ${x}",
      "[parameters.x]\ndefault = \"given\"\n[processors]\narm64 = \"aa64\"\n");
  CHECK(conf(patch_told(recipe, image)) ==
        "aa64 33 android13-5.15 " + kGenericRelease +
            " 2020-10 korvale/tarn:13 boot two-stage ${arch} $$ given");
  CHECK(conf(patch_told(of_text("${stock_sha256}"), image)) == sha256_hex(as_view(image)));
  const TempDir dir;
  write(dir / "stock", image);
  const Ran sum = run({"sha1sum", (dir / "stock").string()});
  CHECK(conf(patch_told(of_text("${stock_sha1}"), image)) == sum.out.substr(0, 40));
}

TEST_CASE("values: in an image that was patched before they are the stock image's") {
  const std::string image = generic_boot();
  const auto first = patch_told(of_text("${stock_sha1} ${stock_sha256}"), image);
  const std::string patched = text(value_of(first).bytes.view());
  const auto again = patch_told(of_text("${stock_sha1} ${stock_sha256}"), patched);
  CHECK_FALSE(value_of(again).changed);
  // A recipe that asks for the one that the journal does not have: from the way back.
  const auto other = patch_told(of_text("x"), image);
  const auto on_top = patch_told(of_text("${stock_sha1}"), text(value_of(other).bytes.view()));
  CHECK(conf(on_top) == conf(patch_told(of_text("${stock_sha1}"), image)));
  check_undone(value_of(on_top), image);
}

TEST_CASE("values: paths and files are named by them, and a path cannot leave the ramdisk by one") {
  const std::string recipe =
      kValuesHead +
      "[[edit]]\nkind = \"put\"\npath = \"tide/${kmi}/${partition}.ko\"\nfrom = "
      "\"tide-${kmi}.ko\"\n[[edit]]\nkind = \"put\"\npath = \"tide/lib\"\nfrom = "
      "\"lib-${arch}\"\n[processors]\narm64 = \"aa64\"\n";
  const auto done = patch_told(recipe, generic_boot());
  CHECK(conf(done, "tide/android13-5.15/boot.ko") == "for 5.15");
  CHECK(conf(done, "tide/lib") == "a program");
  const auto out =
      patch_told(kValuesHead + "[[edit]]\nkind = \"put\"\npath = \"a/${build}\"\ntext = \"x\"\n",
                 generic_boot(), {{"build", "../../up"}});
  REQUIRE_FALSE(out);
  CHECK(out.error().code == ErrorCode::UnsafePath);
  CHECK(out.error().message.find("line 5, column 8") != std::string::npos);
}

TEST_CASE("values: conditions on the kernel hold by generation and by version") {
  const auto when = [](const std::string& condition) {
    return of_text("there", "when = { " + condition + " }\nmay_miss = true\n");
  };
  const std::string generic = generic_boot(), old = generic_boot("4.14.117-perf+");
  struct Case {
    std::string condition;
    bool generic, old;
  };
  for (const Case& one :
       {Case{"kmi = [\"android13-5.15\"]", true, false},
        Case{"kmi = [\"android12-5.10\", \"android13-5.15\"]", true, false},
        Case{"kmi = \"android13-5.10\"", false, false}, Case{"kernel = \"5.15\"", true, false},
        Case{"kernel = \"5.1\"", false, false}, Case{"kernel = \"4.14.117\"", false, true},
        Case{"kernel = [\"4.9\", \"4.1*\"]", false, true}}) {
    CAPTURE(one.condition);
    CHECK(conf(patch_told(when(one.condition), generic)) == (one.generic ? "there" : "(none)"));
    CHECK(conf(patch_told(when(one.condition), old)) == (one.old ? "there" : "(none)"));
  }
}

TEST_CASE("values: what is not known is an error that says where it was looked for") {
  const std::string alone = generic_boot("", 4);
  const auto check = [&](const std::string& recipe, const std::string& found,
                         const std::string& hint) {
    const auto done = patch_told(recipe, alone, {}, "init_boot");
    REQUIRE_FALSE(done);
    CHECK(done.error().code == ErrorCode::NoTarget);
    CHECK(done.error().message.find("tide") != std::string::npos);
    CHECK(done.error().found.find(found) != std::string::npos);
    CHECK(done.error().hint.find(hint) != std::string::npos);
  };
  check(of_text("${kmi}"), "firmware's boot", "--set kmi=");
  check(of_text("x", "when = { kmi = \"android13-5.15\" }\n"), "firmware's boot", "--set kmi=");
  check(of_text("x", "when = { kernel = \"5.15\" }\n"), "firmware's boot", "--set kernel_release=");
  check(kValuesHead + "[[edit]]\nkind = \"put\"\npath = \"a\"\nfrom = \"tide-${kmi}.ko\"\n",
        "firmware's boot", "--set kmi=");
  check(kValuesHead +
            "[needs]\nkmi = \"android13-5.15\"\n[[edit]]\nkind = \"put\"\npath = \"a\"\n"
            "text = \"x\"\n",
        "firmware's boot", "--set kmi=");
  // Told by a person; and not asked for where another condition does not hold.
  CHECK(conf(patch_told(of_text("${kmi}"), alone, {{"kmi", "android14-6.1"}}, "init_boot")) ==
        "android14-6.1");
  CHECK(conf(patch_told(of_text("${kmi}", "when = { partition = \"boot\" }\nmay_miss = true\n"),
                        alone, {}, "init_boot")) == "(none)");
  const auto old = patch_told(of_text("${kmi}"), generic_boot("4.14.117-perf+"));
  REQUIRE_FALSE(old);
  CHECK(old.error().found.find("4.14.117-perf+") != std::string::npos);
}

TEST_CASE("values: without a ramdisk nothing tells whether an image is the stock one") {
  const std::string image = TableBytes{.blobs = {rich_tree()}, .rows = {}}.done();
  const auto done = patch_told(kValuesHead +
                                   "[[edit]]\nkind = \"dt-property\"\nnode = \"/\"\nproperty = "
                                   "\"tide\"\ntext = \"${stock_sha1}\"\npartition = \"dtbo\"\n",
                               image, {}, "dtbo");
  REQUIRE_FALSE(done);
  CHECK(done.error().code == ErrorCode::NoTarget);
  CHECK(done.error().hint.find("stock image") != std::string::npos);
}

TEST_CASE("values: the generation is that of vendor_boot's modules where there is no kernel") {
  const std::string module =
      "\x7f"
      "ELF" +
      noise(90, 1) + std::string("\0vermagic=", 10) + "5.15.41-android13-8-g00 SMP preempt" +
      std::string("\0x", 2);
  const std::string image =
      VendorBootBytes{.ramdisk = gzip(CpioBytes{}.file("lib/modules/a.ko", module).done())}.done();
  const std::string recipe = kValuesHead +
                             "[[edit]]\nkind = \"put\"\npath = \"conf\"\ntext = \"${kmi}\"\n"
                             "ramdisk = \"vendor\"\n";
  CHECK(conf(patch_told(recipe, image, {}, "vendor_boot")) == "android13-5.15");
}

TEST_CASE("values: check tells an unknown one, one in a wrong place, and a parameter of the name") {
  const TempDir dir;
  write(dir / "r.toml",
        kValuesHead +
            "[parameters.kmi]\ndefault = \"x\"\n[[edit]]\nkind = \"put\"\npath = \"a\"\n"
            "text = \"${kmo}\"\n[[edit]]\nkind = \"put\"\npath = \"b\"\nfrom = "
            "\"x-${layout}\"\n[[edit]]\nkind = \"put\"\npath = \"c\"\ntext = \"${kmi\"\n"
            "partition = \"${partition}\"\n[[edit]]\nkind = \"kernel-bytes\"\nfind_text = "
            "\"${sdk}\"\nreplace_text = \"abcdef\"\nwhen = { kmi = \"5.15\" }\n");
  std::vector<std::string> told;
  for (const Mistake& one : value_of(check_recipe((dir / "r.toml").string(), {})))
    if (!one.warning)
      told.push_back(std::to_string(one.line) + ":" + std::to_string(one.column) + " " +
                     one.message);
  const auto has = [&](const std::string& start, const std::string& word) {
    return std::ranges::any_of(told, [&](const std::string& line) {
      return line.starts_with(start) && line.find(word) != line.npos;
    });
  };
  CHECK(has("3:", "needs another name"));
  CHECK(has("8:8", "no parameter and no value is named \"kmo\""));
  CHECK(has("12:8", "differs from image to image"));
  CHECK(has("16:8", "without a \"}\""));
  CHECK(has("17:13", "not here"));
  CHECK(has("20:13", "not here"));
  CHECK(has("22:16", "android13-5.15"));
}

TEST_CASE("values: releases are parted as kernels spell them") {
  struct Case {
    std::string release, generation, series;
  };
  for (const Case& one :
       {Case{kGenericRelease, "android13-5.15", "5.15-android13-8"},
        Case{"6.1.25-android14-11-g0", "android14-6.1", "6.1-android14-11"},
        Case{"5.10.43-android12-9", "android12-5.10", "5.10-android12-9"},
        Case{"5.10.43-android12", "android12-5.10", "5.10"}, Case{"5.10.43-androidx-9", "", "5.10"},
        Case{"4.14.117-perf+", "", "4.14"}, Case{"3.18", "", "3.18"}, Case{"tide", "", ""},
        Case{"", "", ""}}) {
    CAPTURE(one.release);
    CHECK(kernel::generation_of(one.release) == one.generation);
    CHECK(kernel::series_of(one.release) == one.series);
  }
  CHECK(kernel::is_generation("android13-5.15"));
  for (const char* word : {"5.15-android13", "android13", "android-5.15", "android13-5", ""})
    CHECK_FALSE(kernel::is_generation(word));
  CHECK(kernel::module_interface("5.15.1-android13-8-gab") ==
        kernel::module_interface("5.15.94-android13-8-gcd"));
  CHECK(kernel::module_interface("4.14.1-a") != kernel::module_interface("4.14.1-b"));
  CHECK(told_of_phone({{"kmi", "5.15-android13"}}).error().code == ErrorCode::Usage);
  CHECK(told_of_phone({{"sdk", "33x"}}).error().code == ErrorCode::Usage);
  CHECK(told_of_phone({{"build", ""}}).error().code == ErrorCode::Usage);
  CHECK(value_of(told_of_phone({{"kmi", "android13-5.15"}, {"x", "y"}, {"layout", "z"}})).size() ==
        1);
}

}  // namespace wexlo::test
