#pragma once
/// What recipes can name with `${name}` beside their own parameters: the phone and the image that
/// is patched. docs/recipes.md, "Values".

#include <cstdint>
#include <map>
#include <optional>
#include <span>
#include <string>
#include <string_view>

#include "base/error.hpp"

namespace wexlo {

/// By name; what is not known is not in it.
using Values = std::map<std::string, std::string>;

/// What the phone is, as far as its images tell; empty or nullopt: not known.
struct PhoneFacts {
  std::string architecture;          ///< of its programs
  std::string kernel_architecture;   ///< "arm64" may run programs for "arm"
  std::optional<std::uint32_t> sdk;  ///< API level
  std::string kernel_release;        ///< e.g. "5.15.94-android13-8-00001-g0123456789ab"
  std::string kmi;                   ///< generation of a generic kernel: kernel::generation_of
  std::string patch_level;           ///< YYYY-MM-DD, or YYYY-MM
  std::string build;                 ///< its fingerprint

  /// The processor that recipes mean: of programs, else the kernel's.
  [[nodiscard]] const std::string& processor() const {
    return architecture.empty() ? kernel_architecture : architecture;
  }
  /// Takes over what is not known here.
  void complete(const PhoneFacts& other);
  /// Takes what a person told; it counts for more than what images tell.
  void take(const Values& told);
  /// What is known of it, by the names that recipes use.
  [[nodiscard]] Values values() const;
};

/// A value that is no parameter.
struct ValueRow {
  std::string_view name, about;
  std::string_view looked_for;  ///< where it comes from: a clause behind "it was looked for in"
  bool of_phone = true;         ///< else it differs from image to image of one phone
};
[[nodiscard]] std::span<const ValueRow> value_rows();
/// nullptr: there is none of this name.
[[nodiscard]] const ValueRow* value_row(std::string_view name);

/// What a text asks for that is not known. @param phone  what is known, for the reason
[[nodiscard]] Error unknown_value(std::string_view name, const PhoneFacts& phone);

/// Of what was given with --set, what tells of the phone. Errors: Usage (a value of another form).
[[nodiscard]] Result<Values> told_of_phone(const Values& settings);

}  // namespace wexlo
