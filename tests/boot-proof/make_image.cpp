/// Puts files together as a boot or vendor_boot image, for the boot proof: the builders that the
/// tests have, from the command line.
///   make_image boot VERSION KERNEL RAMDISK OUT      (`-`: no such part)
///   make_image vendor_boot RAMDISK BOOTCONFIG OUT
///   make_image tide FOLDER                          (the demo's root package and its recipe)

#include <cstdio>
#include <fstream>
#include <iterator>
#include <string>

#include "demo/tide.hpp"
#include "support/boot.hpp"

namespace {

std::string read(const std::string& path) {
  if (path == "-") return {};
  std::ifstream file(path, std::ios::binary);
  if (!file) throw std::runtime_error("cannot read " + path);
  return {std::istreambuf_iterator<char>(file), {}};
}

void write(const std::string& path, const std::string& bytes) {
  std::ofstream file(path, std::ios::binary);
  file << bytes;
  if (!file.flush()) throw std::runtime_error("cannot write " + path);
}

}  // namespace

int main(int count, char** words) try {
  const std::vector<std::string> args(words + 1, words + count);
  if (args.size() == 5 && args[0] == "boot") {
    wexlo::test::BootBytes boot{.version = static_cast<unsigned>(std::stoul(args[1])),
                                .kernel = read(args[2]),
                                .ramdisk = read(args[3]),
                                .cmdline = ""};
    if (boot.version == 2) boot.dtb = wexlo::test::device_tree("Korvale Tarn 2", "korvale,vernier");
    write(args[4], boot.done());
  } else if (args.size() == 4 && args[0] == "vendor_boot") {
    const wexlo::test::VendorBootBytes vendor{
        .dtb = wexlo::test::device_tree("Korvale Tarn 3", "korvale,gnomon"),
        .bootconfig = read(args[2]),
        .cmdline = "",
        .named = {{"", 1, read(args[1])}}};
    write(args[3], vendor.done());
  } else if (args.size() == 2 && args[0] == "tide") {
    const auto package = wexlo::demo::tide_package();
    if (!package) throw std::runtime_error(wexlo::describe(package.error()));
    write(args[1] + "/tide.zip", std::string(wexlo::as_text(package->zip)));
    write(args[1] + "/tide.toml", std::string(package->recipe));
  } else {
    std::fputs("make_image: see the head of its source\n", stderr);
    return 2;
  }
  return 0;
} catch (const std::exception& error) {
  std::fprintf(stderr, "make_image: %s\n", error.what());
  return 1;
}
