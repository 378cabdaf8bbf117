#include "recipe/values.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <array>
#include <charconv>

#include "image/kernel_release.hpp"

namespace wexlo {
namespace {

constexpr std::string_view kKernels =
    "the kernel of the image and of the firmware's boot, and modules of vendor_boot and "
    "vendor_kernel_boot";

constexpr std::array kRows{
    ValueRow{"arch", "the phone's processor, in the words of [processors]",
             "programs in the ramdisk, and the kernel"},
    ValueRow{"sdk", "the API level of the build", "the package, and property files of the ramdisk"},
    ValueRow{"kmi", "the generation of a generic kernel, e.g. android13-5.15", kKernels},
    ValueRow{"kernel_release", "the kernel's release, e.g. 5.15.94-android13-8-00001",
             "the kernel of the image and of the firmware's boot"},
    ValueRow{"patch_level", "the security patch level of the build",
             "the package, verified-boot properties, and the boot header"},
    ValueRow{"build", "the fingerprint of the build",
             "the package, verified-boot properties, and property files of the ramdisk"},
    ValueRow{"partition", "the partition of the image, without its slot", "the image", false},
    ValueRow{"layout", "the layout of the ramdisk, as in `when`", "the ramdisk", false},
    ValueRow{"stock_sha1", "SHA-1 of the whole stock image", "the image, or the way back in it",
             false},
    ValueRow{"stock_sha256", "SHA-256 of the whole stock image", "the image, or its journal",
             false},
};

constexpr std::array<std::string_view, 5> kProcessors{"arm64", "arm", "x86_64", "x86", "riscv64"};

/// Other names that processors go by.
std::string meant_processor(std::string_view word) {
  struct Alias {
    std::string_view word, processor;
  };
  constexpr Alias kAliases[] = {
      {"aarch64", "arm64"}, {"arm64-v8a", "arm64"}, {"armv8", "arm64"},   {"armeabi-v7a", "arm"},
      {"armv7", "arm"},     {"arm32", "arm"},       {"amd64", "x86_64"},  {"x86-64", "x86_64"},
      {"i386", "x86"},      {"i686", "x86"},        {"riscv", "riscv64"},
  };
  for (const Alias& one : kAliases)
    if (one.word == word) return fmt::format("Did you mean {}?", one.processor);
  return {};
}

std::optional<std::uint32_t> number_of(std::string_view text) {
  std::uint32_t out = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), out);
  if (error != std::errc() || end != text.data() + text.size()) return std::nullopt;
  return out;
}

/// Errors: Usage.
Status check_form(std::string_view name, const std::string& value) {
  Error error{
      .code = ErrorCode::Usage, .message = fmt::format("--set {}= needs ", name), .found = value};
  if (name == "arch") {
    if (std::ranges::find(kProcessors, value) != kProcessors.end()) return {};
    error.message += "the phone's processor";
    error.expected = fmt::format("{}", fmt::join(kProcessors, ", "));
    error.hint = meant_processor(value);
  } else if (name == "sdk") {
    if (number_of(value)) return {};
    error.message += "the build's API level";
    error.expected = "a number, e.g. 34";
  } else if (name == "kmi") {
    if (kernel::is_generation(value)) return {};
    error.message += "the generation of a generic kernel";
    error.expected = "the form android13-5.15";
    if (const std::string meant = kernel::generation_of(value); !meant.empty())
      error.hint = fmt::format("Did you mean {}?", meant);
  } else {
    if (!value.empty()) return {};
    error.message += "a value";
  }
  return fail(std::move(error));
}

}  // namespace

void PhoneFacts::complete(const PhoneFacts& other) {
  const auto fill = [](std::string& mine, const std::string& theirs) {
    if (mine.empty()) mine = theirs;
  };
  fill(architecture, other.architecture);
  fill(kernel_architecture, other.kernel_architecture);
  if (!sdk) sdk = other.sdk;
  fill(kernel_release, other.kernel_release);
  fill(kmi, other.kmi);
  fill(patch_level, other.patch_level);
  fill(build, other.build);
}

void PhoneFacts::take(const Values& told) {
  const auto take = [&](const char* name, std::string& into) {
    if (const auto at = told.find(name); at != told.end()) into = at->second;
  };
  take("arch", architecture);
  if (const auto at = told.find("sdk"); at != told.end()) sdk = number_of(at->second);
  take("kmi", kmi);
  take("kernel_release", kernel_release);
  take("patch_level", patch_level);
  take("build", build);
}

Values PhoneFacts::values() const {
  Values out{{"arch", processor()},
             {"kmi", kmi},
             {"kernel_release", kernel_release},
             {"patch_level", patch_level},
             {"build", build}};
  if (sdk) out["sdk"] = fmt::format("{}", *sdk);
  std::erase_if(out, [](const auto& one) { return one.second.empty(); });
  return out;
}

std::span<const ValueRow> value_rows() {
  return kRows;
}

const ValueRow* value_row(std::string_view name) {
  const auto* at = std::ranges::find(kRows, name, &ValueRow::name);
  return at == kRows.end() ? nullptr : &*at;
}

Error unknown_value(std::string_view name, const PhoneFacts& phone) {
  const ValueRow* row = value_row(name);
  Error out{.code = ErrorCode::NoTarget,
            .message = fmt::format("${{{}}} is not known", name),
            .expected = row == nullptr ? std::string() : std::string(row->about)};
  if (row == nullptr) return out;
  out.found = fmt::format("none in {}", row->looked_for);
  if (name == "kmi" && !phone.kernel_release.empty())
    out.found = fmt::format("the kernel is {}, which is no generic one", phone.kernel_release);
  if (row->of_phone)
    out.hint = name == "arch" ? "Say it: --set arch=arm64 (or arm, x86_64, x86, riscv64)."
                              : fmt::format("Say it: --set {}=VALUE.", name);
  else
    out.hint = "Take it out of this edit, or start from the stock image.";
  return out;
}

Result<Values> told_of_phone(const Values& settings) {
  Values out;
  for (const ValueRow& row : kRows) {
    const auto at = settings.find(std::string(row.name));
    if (at == settings.end() || !row.of_phone) continue;
    WEXLO_CHECK(check_form(row.name, at->second));
    out.insert(*at);
  }
  return out;
}

}  // namespace wexlo
