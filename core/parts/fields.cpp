#include "parts/fields.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>

#include "image/boot.hpp"
#include "text/text.hpp"

namespace wexlo::parts {
namespace {

/// Follow from the parts, or would make it another kind of image.
constexpr std::array kDerived{std::string_view("magic"),
                              std::string_view("header_version"),
                              std::string_view("page_size"),
                              std::string_view("header_size"),
                              std::string_view("id"),
                              std::string_view("extra_cmdline"),
                              std::string_view("recovery_dtbo_offset"),
                              std::string_view("required_version_major"),
                              std::string_view("vendor_ramdisk_table_entry_num"),
                              std::string_view("vendor_ramdisk_table_entry_size"),
                              std::string_view("algorithm_type"),
                              std::string_view("hash_offset"),
                              std::string_view("signature_offset"),
                              std::string_view("public_key_offset"),
                              std::string_view("public_key_metadata_offset"),
                              std::string_view("descriptors_offset")};

bool is_derived(std::string_view name) {
  return name.ends_with("_size") || std::ranges::find(kDerived, name) != kDerived.end();
}

/// Text fields may hold any bytes; from 0x80 on TOML would not take them.
std::string text_value(std::string_view raw) {
  return is_ascii(raw) && !raw.starts_with("%") ? std::string(raw) : "%" + percent_encode(raw);
}

Result<std::uint64_t> to_number(const FieldText& field) {
  const bool hex = field.value.starts_with("0x");
  const char* begin = field.value.data() + (hex ? 2 : 0);
  const char* end = field.value.data() + field.value.size();
  std::uint64_t value = 0;
  const auto [at, bad] = std::from_chars(begin, end, value, hex ? 16 : 10);
  if (bad != std::errc() || at != end)
    return fail({.code = ErrorCode::BadValue,
                 .message = fmt::format("header field {} is not a number", field.name),
                 .found = field.value});
  return value;
}

/// Numbers parted by `separator`, each at most its limit.
Result<std::vector<std::uint32_t>> parse_parts(const FieldText& field, char separator,
                                               std::span<const std::uint32_t> limits,
                                               std::string_view form) {
  std::vector<std::uint32_t> numbers;
  std::string_view rest = field.value;
  for (const std::uint32_t limit : limits) {
    std::uint32_t value = 0;
    const auto [at, bad] = std::from_chars(rest.data(), rest.data() + rest.size(), value);
    rest.remove_prefix(static_cast<std::size_t>(at - rest.data()));
    const bool last = numbers.size() + 1 == limits.size();
    if (bad != std::errc() || value > limit ||
        (last ? !rest.empty() : !rest.starts_with(separator)))
      return fail({.code = ErrorCode::BadValue,
                   .message = fmt::format("header field {} is not of its form", field.name),
                   .expected = std::string(form),
                   .found = field.value});
    if (!last) rest.remove_prefix(1);
    numbers.push_back(value);
  }
  return numbers;
}

Status set_os_version(Image& image, const FieldText& field) {
  std::uint64_t packed = image.number("os_version") & 0x7ff;
  if (!field.value.empty()) {
    constexpr std::array<std::uint32_t, 3> limits{127, 127, 127};
    WEXLO_TRY(const auto v, parse_parts(field, '.', limits, "A.B.C, each at most 127"));
    packed |= std::uint64_t{v[0]} << 25 | v[1] << 18 | v[2] << 11;
  }
  return image.set_number("os_version", packed);
}

Status set_patch_level(Image& image, const FieldText& field) {
  std::uint64_t packed = image.number("os_version") & ~std::uint64_t{0x7ff};
  if (!field.value.empty()) {
    constexpr std::array<std::uint32_t, 2> limits{2127, 12};
    WEXLO_TRY(const auto v, parse_parts(field, '-', limits, "YYYY-MM, 2000 to 2127"));
    if (v[0] < 2000)
      return fail({.code = ErrorCode::BadValue,
                   .message = "patch_level is before 2000",
                   .expected = "YYYY-MM, 2000 to 2127",
                   .found = field.value});
    packed |= (v[0] - 2000) << 4 | v[1];
  }
  return image.set_number("os_version", packed);
}

}  // namespace

std::vector<FieldText> editable_fields(const Image& image) {
  std::vector<FieldText> out;
  for (const Field& field : image.layout().fields) {
    if (is_derived(field.name)) continue;
    const std::string name(field.name);
    if (name == "os_version") {
      const auto os = boot::os_version(image);
      out.push_back({name, os.version});
      out.push_back({"patch_level", os.patch_level});
    } else if (name == "cmdline") {
      out.push_back({name, text_value(boot::cmdline(image))});
    } else if (field.type == FieldType::Text) {
      out.push_back({name, text_value(until_nul(image.raw(name)))});
    } else if (field.type != FieldType::Raw) {
      const std::uint64_t value = image.number(name);
      const bool address = name.ends_with("_addr");
      out.push_back({name, address ? hex_value(value) : fmt::format("{}", value), true});
    }
  }
  return out;
}

std::string format_fields(const std::vector<FieldText>& fields) {
  std::string out;
  for (const FieldText& field : fields) {
    // TOML's numbers are signed: what does not fit is written as text.
    const bool plain = field.number && (field.value.size() < 19);
    out += fmt::format("{} = {}\n", field.name, plain ? field.value : toml_quote(field.value));
  }
  return out;
}

Status set_field(Image& image, const FieldText& field) {
  if (field.name == "patch_level") return set_patch_level(image, field);
  const Field* row = image.layout().field(field.name);
  if (row == nullptr || is_derived(field.name))
    return fail({.code = ErrorCode::Unsupported,
                 .message = fmt::format("header field {} cannot be set", field.name),
                 .hint = "Sizes, offsets and digests follow from the parts."});
  if (field.name == "os_version") return set_os_version(image, field);
  if (row->type != FieldType::Text) {
    WEXLO_TRY(const std::uint64_t value, to_number(field));
    return image.set_number(field.name, value);
  }
  std::string text = field.value;
  if (text.starts_with('%')) {
    WEXLO_TRY(text, percent_decode(std::string_view(text).substr(1)));
  }
  if (field.name == "cmdline") return boot::set_cmdline(image, text);
  return image.set_raw(field.name, as_view(text));
}

}  // namespace wexlo::parts
