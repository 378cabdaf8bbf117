/// Conditions of recipes and their edits, as tables.

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <array>

#include "image/kernel_release.hpp"
#include "recipe/fields.hpp"

namespace wexlo {
namespace {

Conditions conditions_of(Fields& f) {
  Conditions out{f.texts("arch"),
                 f.texts("layout"),
                 f.texts("partition"),
                 f.numbers("header_version"),
                 f.number("sdk_at_least", 10000),
                 f.number("sdk_at_most", 10000),
                 f.texts("kmi"),
                 f.texts("kernel"),
                 f.text_or("reason", "")};
  constexpr std::array kArchitectures{"arm64", "arm", "x86_64", "x86", "riscv64"};
  for (const std::string& word : out.architectures)
    if (std::ranges::find(kArchitectures, word) == kArchitectures.end())
      f.wrong("arch", fmt::format("no processor is called \"{}\"; known: {}", word,
                                  fmt::join(kArchitectures, ", ")));
  constexpr std::array kLayouts{"ramdisk-root", "two-stage", "two-stage-recovery", "system-root",
                                "generic",      "vendor",    "recovery",           "none"};
  for (const std::string& word : out.layouts)
    if (std::ranges::find(kLayouts, word) == kLayouts.end())
      f.wrong("layout", fmt::format("no ramdisk layout is called \"{}\"; known: {}", word,
                                    fmt::join(kLayouts, ", ")));
  for (const std::string& word : out.generations)
    if (!kernel::is_generation(word))
      f.wrong("kmi", fmt::format("\"{}\" is no generation of generic kernels: they are called "
                                 "like android13-5.15",
                                 word));
  return out;
}

}  // namespace

Conditions read_conditions(const toml::table& table, Reading& reading) {
  Fields f(table, reading);
  Conditions out = conditions_of(f);
  if (const toml::node* layouts = table.get("layout")) {
    out.layouts_line = layouts->source().begin.line;
    out.layouts_column = layouts->source().begin.column;
  }
  f.finish();
  return out;
}

Conditions read_needs(const toml::table& table, Reading& reading, PhoneNeeds& phone) {
  Fields f(table, reading);
  Conditions out = conditions_of(f);
  phone = {f.texts("build"), f.texts("baseband_ending"), f.texts("chipset")};
  f.finish();
  return out;
}

}  // namespace wexlo
