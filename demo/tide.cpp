#include "demo/tide.hpp"

#include <fmt/format.h>

#include <array>

#include "codec/codec.hpp"
#include "demo/containers.hpp"
#include "demo/content.hpp"

namespace wexlo::embedded {
std::string_view demo_file(std::string_view name);
}

namespace wexlo::demo {
namespace {

constexpr std::array<std::string_view, 4> kProcessors{"arm64", "arm", "x86_64", "x86"};
constexpr std::array<std::string_view, 3> kGenerations{"android14-6.1", "android15-6.6",
                                                       "android16-6.12"};

/// As kernels read it: LZMA2, check CRC32.
Result<Bytes> packed(std::string_view program) {
  return encode(Compression::Xz, as_view(program));
}

}  // namespace

Result<RootPackage> tide_package() {
  RootPackage out{.zip = {}, .recipe = embedded::demo_file("tide.toml"), .processors = {}};
  std::vector<ZipFile> files{
      {"README.txt", to_bytes(embedded::demo_file("tide-readme.txt"))},
      {"settings.template", to_bytes(embedded::demo_file("tide-settings.template"))},
      {"uninstall.txt", to_bytes(embedded::demo_file("tide-uninstall.txt"))}};
  for (const std::string_view processor : kProcessors) {
    const auto first = embedded::demo_file(fmt::format("tide-first-{}", processor)),
               keeper = embedded::demo_file(fmt::format("tide-keeper-{}", processor));
    if (first.empty() || keeper.empty()) continue;
    out.processors.push_back(processor);
    WEXLO_TRY(Bytes small, packed(keeper));
    files.push_back({fmt::format("programs/{}/first", processor), to_bytes(first)});
    files.push_back({fmt::format("programs/{}/keeper.xz", processor), std::move(small)});
  }
  std::uint64_t seed = 900;
  for (const std::string_view generation : kGenerations)
    files.push_back({fmt::format("modules/tide-{}.ko", generation), elf_like(++seed, 3 * kBlock)});
  WEXLO_TRY(out.zip, zip_bytes(files));
  return out;
}

}  // namespace wexlo::demo
