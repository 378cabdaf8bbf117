/// Kits, packages with images put in, and trays, against general tools on the same bytes.

#include <filesystem>

#include "base/output.hpp"
#include "demo/containers.hpp"
#include "demo/gnomon.hpp"
#include "demo/images.hpp"
#include "demo/phones.hpp"
#include "measure.hpp"
#include "text/text.hpp"

namespace wexlo::bench {
namespace fs = std::filesystem;
namespace {

const std::string kWexlo = std::string(WEXLO_PROGRAM) + " --quiet --jobs 2 ";
constexpr std::string_view kRecipe =
    "format = 1\nname = \"small\"\n[[edit]]\nkind = \"put\"\npath = \"note\"\nfrom = \"note\"\n";

/// What a kit costs depends on the partitions that it changes, not on the firmware's size.
void prepare_grows_tenfold(const fs::path& folder) {
  const Context context{.jobs = 2};
  std::vector<Cost> costs;
  for (const std::size_t mib : {std::size_t{48}, std::size_t{480}}) {
    const fs::path zip = folder / fmt::format("ota-{}.zip", mib);
    apart([&] { return demo::write_gnomon(zip, {.system_mib = mib}, context).has_value(); });
    // The program alone, so that its own reading and memory are counted.
    costs.push_back(
        best_of(5, {WEXLO_PROGRAM, "--quiet", "--jobs", "2", "prepare", zip.string(), "-r",
                    (folder / "small.toml").string(), "-o", (folder / "kit").string(), "--force"}));
    show(fmt::format("prepare: a package with {} MiB of system", mib), costs.back());
  }
  fmt::print("ratio: prepare, system tenfold: time {:.2f}, bytes read {:.2f}, peak memory {:.2f}\n",
             costs[1].seconds / costs[0].seconds,
             static_cast<double>(costs[1].read_bytes) / static_cast<double>(costs[0].read_bytes),
             static_cast<double>(costs[1].peak_bytes) / static_cast<double>(costs[0].peak_bytes));
}

/// Two ramdisks patched, with a sheet: as if each partition were taken out once and each ramdisk
/// packed twice (edited and stock), on two cores.
void prepare_two_ramdisks(const fs::path& folder) {
  static_cast<void>(shell(1, folder,
                          "rm -rf demo; " + kWexlo + "demo demo; " + kWexlo +
                              "extract demo/gnomon-ota.zip init_boot vendor_boot -o two --force; " +
                              kWexlo + "unpack two/init_boot.img -o first --force; " + kWexlo +
                              "unpack two/vendor_boot.img -o second --force"));
  const std::string ota = (folder / "demo/gnomon-ota.zip").string();
  const Cost ours = best_of(7, {WEXLO_PROGRAM, "--quiet", "--jobs", "2", "prepare", ota, "--sheet",
                                (folder / "demo/sheets/gnomon.toml").string(), "-r",
                                (folder / "demo/add-on/recipe.toml").string(), "-r", "@fstab-open",
                                "-o", (folder / "kit").string(), "--force"});
  Cost theirs = shell(7, folder,
                      kWexlo +
                          "extract demo/gnomon-ota.zip boot init_boot vendor_boot vbmeta dtbo "
                          "vbmeta_system -o two --force");
  for (const char* ramdisk : {"first/ramdisk.bin", "second/vendor_ramdisk.bin"})
    theirs.seconds +=
        shell(7, folder, fmt::format("lz4 -dc {} | lz4 -l -12 -c > again.lz4", ramdisk)).seconds;
  compare("prepare, two ramdisks and a sheet", ours, "extract, and lz4 of each ramdisk", theirs,
          1.05);
  compare_peak("prepare, two ramdisks and a sheet", ours, 110 * kMiB);
  compare_peak(
      "check of that kit",
      best_of(3, {WEXLO_PROGRAM, "--quiet", "--jobs", "2", "check", (folder / "kit").string()}),
      100 * kMiB);
}

/// What a run costs that does next to nothing.
void inspect_a_small_image(const fs::path& folder) {
  const Cost cost = best_of(20, {WEXLO_PROGRAM, "inspect", (folder / "two/vbmeta.img").string()});
  show("inspect of a vbmeta image", cost);
  fmt::print("{:.1f} ms (at most 20 is wanted)\n", cost.seconds * 1000);
}

/// A large image goes into a kit once read and once digested, like cp and sha256sum do it.
void kit_with_a_system(const fs::path& folder) {
  const Cost ours = shell(2, folder,
                          "rm -rf kit; " + kWexlo +
                              "prepare ota-48.zip -r small.toml --with system=big.img --wipe "
                              "--accept not-covered-system --accept no-room-system -o kit");
  const Cost theirs = shell(
      2, folder, "rm -rf copy; mkdir copy; cp big.img copy/a; sync copy/a; sha256sum big.img");
  compare("prepare --with a system of 1024 MiB", ours, "cp, sync and sha256sum", theirs, 2.0);
}

void insert_into(const fs::path& folder, const std::string& name, const std::string& file,
                 const std::string& what, const std::string& tools, const std::string& shown,
                 double most) {
  const Cost ours =
      shell(2, folder, "rm -f out; " + kWexlo + "insert " + file + " " + what + " -o out");
  compare("insert: " + name, ours, shown, shell(2, folder, tools), most);
}

/// Packages over 256 MiB are not waited for until they are on the disk: neither are the tools'.
void insert_all(const fs::path& folder) {
  const std::string copy = "rm -rf copy; cp --sparse=never ";
  insert_into(folder, "a tar of 1024 MiB with its sum", "big.tar.md5", "boot=patched.img",
              "md5sum big.tar.md5; " + copy + "big.tar.md5 copy; md5sum copy", "md5sum, cp, md5sum",
              1.0);
  insert_into(folder, "a zip of 1024 MiB, stored", "big.zip", "boot=patched.img",
              copy + "big.zip copy.zip; cp patched.img boot.img; zip -q -0 copy.zip boot.img",
              "cp, and zip replacing it", 1.2);
  insert_into(folder, "a super of 1024 MiB, a system of 600 MiB", "super.img",
              "system_a=other.img --accept other-kind-system_a", copy + "super.img copy", "cp",
              2.0);
}

/// Packages that general tools make, large, of bytes that no compressor likes; and super.
bool make_packages(const fs::path& folder) {
  const Context context{.jobs = 2};
  if (!write_file(folder / "small.toml", as_view(kRecipe), Overwrite::Replace)) return false;
  if (!write_file(folder / "note", as_view("hello\n"), Overwrite::Replace)) return false;
  if (!demo::write_plumbline(folder / "home.tar.md5", demo::FirmwareSize::Usual, context))
    return false;
  if (!demo::write_vernier(folder / "factory.zip", demo::FirmwareSize::Usual, context))
    return false;
  Bytes system = demo::system_image(512 * kMiB, "n=1");
  const Bytes super = demo::super_image({{"system_a", std::move(system)}}, 1024 * kMiB, "g");
  if (!write_file(folder / "super.img", super, Overwrite::Replace)) return false;
  // A run that fails ends the benchmark.
  static_cast<void>(shell(
      1, folder,
      "head -c 1G /dev/urandom > big.img; head -c 600M big.img > other.img; " + kWexlo +
          "extract home.tar.md5 boot -o plumbline; cp plumbline/boot.img boot.img; " + kWexlo +
          "patch boot.img -r small.toml -o patched.img; ln big.img userdata.img; "
          "tar -H ustar -cf big.tar boot.img userdata.img; md5sum -t big.tar >> big.tar; "
          "mv big.tar big.tar.md5; zip -q -0 big.zip boot.img userdata.img"));
  return true;
}

/// Phones of two builds; what is taken out of a package for one serves all.
void trays(const fs::path& folder) {
  std::string text = "format = 1\n";
  for (int phone = 0; phone < 6; ++phone)
    text +=
        fmt::format("[[job]]\nfirmware = \"{}\"\nrecipes = [\"small.toml\"]\nkit = \"tray/{}\"\n",
                    phone % 2 == 0 ? "factory.zip" : "ota-480.zip", phone);
  if (!write_file(folder / "tray.toml", as_view(text), Overwrite::Replace)) std::exit(1);
  const std::string home = "rm -rf tray; export XDG_CACHE_HOME=$PWD/cache; ";
  const Cost none = shell(3, folder, home + kWexlo + "batch tray.toml --no-cache");
  const Cost cold = shell(3, folder, home + "rm -rf cache; " + kWexlo + "batch tray.toml");
  const Cost warm = shell(3, folder, home + kWexlo + "batch tray.toml");
  std::string each = "rm -rf tray; mkdir tray; ";
  for (int phone = 0; phone < 6; ++phone)
    each += fmt::format("{} prepare {} -r small.toml -o tray/{}; ", kWexlo,
                        phone % 2 == 0 ? "factory.zip" : "ota-480.zip", phone);
  const Cost one_by_one = shell(3, folder, each);
  compare("batch of six, no cache", none, "six times prepare", one_by_one, 1.0);
  compare("batch of six, an empty cache", cold, "six times prepare", one_by_one, 1.0);
  compare("batch of six, a full cache", warm, "six times prepare", one_by_one, 1.0);
}

}  // namespace

void kits(const std::string& name) {
  const fs::path folder(name);
  apart([&] { return make_packages(folder); });
  prepare_two_ramdisks(folder);
  inspect_a_small_image(folder);
  prepare_grows_tenfold(folder);
  kit_with_a_system(folder);
  insert_all(folder);
  trays(folder);
}

}  // namespace wexlo::bench
