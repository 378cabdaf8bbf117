#pragma once
/// Reading JSON documents with checked access: what is of another type, out of range or missing is
/// an error that names its place, never a default. The library's header is heavy and stays out.

#include <cstdint>
#include <filesystem>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "base/error.hpp"

namespace wexlo {

/// What a document may be: far above anything that Wexlo writes, far below what a stack or a memory
/// has.
struct JsonLimits {
  std::uint64_t size = 16u << 20;    ///< bytes of text
  unsigned depth = 64;               ///< of values inside each other
  std::uint64_t values = 1'000'000;  ///< in all
};

/// A value of a document, and its place there, e.g. `images[2].stock.sha256`. Cheap to copy; keeps
/// the document alive.
class JsonValue {
 public:
  [[nodiscard]] bool is_object() const;

  /// Whether an object has the key. A null counts as absent: that is how "not known" is written.
  [[nodiscard]] bool has(std::string_view key) const;
  /// Members of an object by name. Errors: BadValue (missing, or of another type; it is no object).
  [[nodiscard]] Result<JsonValue> object(std::string_view key) const;
  [[nodiscard]] Result<std::string> text(std::string_view key) const;
  [[nodiscard]] Result<std::uint64_t> number(std::string_view key) const;
  [[nodiscard]] Result<bool> flag(std::string_view key) const;
  /// The same where it may be absent; another type still is an error.
  [[nodiscard]] Result<std::string> text_or(std::string_view key, std::string fallback) const;
  [[nodiscard]] Result<std::optional<std::uint64_t>> number_if(std::string_view key) const;
  [[nodiscard]] Result<bool> flag_or(std::string_view key, bool fallback) const;
  [[nodiscard]] Result<std::optional<JsonValue>> object_if(std::string_view key) const;
  /// An array's objects; none when it is absent.
  [[nodiscard]] Result<std::vector<JsonValue>> objects(std::string_view key) const;
  /// An array's texts; none when it is absent.
  [[nodiscard]] Result<std::vector<std::string>> texts(std::string_view key) const;
  /// An object whose members are all texts, in their order; none when it is absent.
  [[nodiscard]] Result<std::vector<std::pair<std::string, std::string>>> text_members(
      std::string_view key) const;

  /// BadValue at a member, for what a type does not say.
  [[nodiscard]] std::unexpected<Error> wrong(std::string_view key, std::string message) const;

 private:
  friend class JsonAccess;
  std::shared_ptr<const void> node_;  ///< owns the document, points to the value
  std::string place_;
  std::shared_ptr<const std::string> file_;
};

/// @param file  what errors call it. Errors: LimitExceeded, BadValue (no JSON, with the offset; or
/// no object)
[[nodiscard]] Result<JsonValue> parse_json(std::string_view text, const std::string& file,
                                           const JsonLimits& limits = {});
/// Errors: besides, those of reading the file.
[[nodiscard]] Result<JsonValue> read_json(const std::filesystem::path& file,
                                          const JsonLimits& limits = {});
/// A document's `format` against the version that is known. Errors: BadValue, Unsupported.
/// @param what  that the document is of, e.g. "a kit"
[[nodiscard]] Status check_format(const JsonValue& top, const std::string& file,
                                  std::string_view what, std::uint64_t known);

}  // namespace wexlo
