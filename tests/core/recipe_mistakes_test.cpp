/// Each mistake of a recipe's newer tables, told with its line and column.

#include <fmt/ranges.h>

#include "core/patch_bench.hpp"

namespace wexlo::test {
namespace {

/// An edit with one mistake, and where it stands: the first key is in line 4.
struct Mistaken {
  const char* edit;
  const char* place;  ///< "LINE:COLUMN"
  const char* words;  ///< that the message has
};

const Mistaken kMistaken[] = {
    // Texts, packing, the stock file.
    {"kind = 'put'\npath = 'a'\ntext = 'b'\nfrom = 'c'\n", "7:8", "two contents"},
    {"kind = 'put'\npath = 'a'\ntext = 1\n", "6:8", "text has to be text"},
    {"kind = 'put'\npath = 'a'\ntext = 'b'\npack = 'zip'\n", "7:8", "none, gzip, xz"},
    {"kind = 'put'\npath = 'a'\ntext = 'b'\nkeep_pack = 'xz'\n", "7:13", "is missing"},
    {"kind = 'put'\npath = 'a'\ntext = 'b'\nkeep_stock = '../c'\n", "7:14", "leaves"},
    {"kind = 'put'\npath = 'a'\ntext = 'b'\nkeep_stock = 'a'\n", "7:14",
     "in the place of the new one"},
    {"kind = 'folder'\npath = '/../a'\n", "5:8", "leaves"},
    {"kind = 'folder'\npath = 'a'\nmode = 0o17777\n", "6:8", "mode"},
    {"kind = 'folder'\nmode = 0o755\n", "3:1", "path is missing"},
    // Values.
    {"kind = 'put'\npath = 'a'\ntext = '${tide}'\n", "6:8", "named \"tide\""},
    {"kind = 'put'\npath = 'a'\ntext = '${arch'\n", "6:8", "without a \"}\""},
    {"kind = 'put'\npath = 'a'\nfrom = '${partition}'\n", "6:8", "from image to image"},
    {"kind = 'remove'\npath = 'a'\npartition = '${partition}'\n", "6:13", "not here"},
    {"kind = 'header'\nset = { name = '${kmi}' }\n", "5:16", "not here"},
    // The kernel.
    {"kind = 'remove'\npath = 'a'\nwhen = { kmi = ['5.15'] }\n", "6:16", "android13-5.15"},
    {"kind = 'kernel-bytes'\nfind_text = 'ab'\nreplace_text = 'cd'\ncount = 'all'\n", "7:9",
     "\"any\""},
    {"kind = 'kernel-bytes'\nfind_text = 'ab'\nreplace_text = 'cd'\ncount = 0\n", "7:9",
     "1 to 65536"},
    {"kind = 'part'\npart = 'kernel'\nfrom = 'f'\npack = 'xz'\n", "7:8", "stock, none"},
    {"kind = 'part'\npart = 'dtb'\nfrom = 'f'\npack = 'none'\n", "7:8", "a kernel's alone"},
    {"kind = 'kernel-program'\nfrom = 'f'\narguments = ['${in}']\n", "6:13", "${out}"},
    {"kind = 'kernel-program'\nfrom = 'f'\nseconds = 0\n", "6:11", "1 to 3600"},
    {"kind = 'kernel-program'\narguments = ['${in}', '${out}']\n", "3:1", "from is missing"},
    // Fragments, mounts, a ramdisk of its own.
    {"kind = 'fragment'\nname = 't'\ntype = 'modules'\nfrom = 'f'\n", "6:8", "dlkm"},
    {"kind = 'fragment'\nname = 't'\nfrom = 'f'\nfolder = 'd'\n", "6:8", "two contents"},
    {"kind = 'fragment'\nname = 't'\nremove = true\nfrom = 'f'\n", "6:10", "brings no file"},
    {"kind = 'fragment'\nname = 'a-name-of-more-than-thirty-one-bytes'\nfrom = 'f'\n", "5:8",
     "longer than 31"},
    {"kind = 'fragment'\nname = 't'\nfrom = 'f'\nboard_id = "
     "[1,2,3,4,5,6,7,8,9,10,11,12,13,14,"
     "15,16,17]\n",
     "7:12", "more than 16"},
    {"kind = 'fstab-add'\nmount_point = 'tide'\ndevice = 'd'\ntype = 't'\nflags = "
     "['w']\n",
     "5:15", "begins with"},
    {"kind = 'fstab-add'\nmount_point = '/t'\ndevice = 'd e'\ntype = 't'\nflags = "
     "['w']\n",
     "6:10", "holds a blank"},
    {"kind = 'fstab-add'\nmount_point = '/t'\ndevice = 'd'\ntype = 't'\nflags = "
     "['a,b']\n",
     "8:9", "no single flag"},
    {"kind = 'put'\npath = 'a'\ntext = 'b'\ncreate = true\nramdisk = 'vendor'\n", "7:10",
     "that a normal start runs"},
    {"kind = 'change-list'\npath = '..'\n", "5:8", "leaves"},
    {"kind = 'cmdline'\nadd = ['a']\ncreate = true\n", "6:1", "create"},
};

}  // namespace

TEST_CASE("recipes: each mistake of the newer tables is told where it stands, and alone") {
  for (const Mistaken& one : kMistaken) {
    CAPTURE(one.edit);
    const TempDir dir;
    write(dir / "f", "a file");
    std::filesystem::create_directory(dir / "d");
    write(dir / "d/file", "x");
    write(dir / "r.toml", "format = 1\nname = \"x\"\n[[edit]]\n" + std::string(one.edit));
    std::vector<std::string> told;
    for (const Mistake& mistake : value_of(check_recipe((dir / "r.toml").string(), {})))
      if (!mistake.warning)
        told.push_back(fmt::format("{}:{} {}", mistake.line, mistake.column, mistake.message));
    CAPTURE(fmt::format("{}", fmt::join(told, "\n")));
    REQUIRE(told.size() == 1);
    CHECK(told[0].starts_with(std::string(one.place) + " "));
    CHECK(told[0].find(one.words) != std::string::npos);
  }
}

TEST_CASE("recipes: one without any of these mistakes has none") {
  const TempDir dir;
  write(dir / "r.toml",
        "format = 1\nname = 'x'\n[[edit]]\nkind = 'put'\npath = 'a'\ntext = '${arch} $${arch} "
        "${stock_sha1}'\nkeep_stock = 'b'\nkeep_pack = 'gzip'\ncreate = true\n");
  CHECK(value_of(check_recipe((dir / "r.toml").string(), {})).empty());
}

}  // namespace wexlo::test
