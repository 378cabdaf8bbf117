#include "text/json_read.hpp"

#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/source.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

using Library = nlohmann::ordered_json;

constexpr std::string_view kHint = "Take the file as it was written, or make it anew.";

Error too_much(std::string message, const std::string& file, std::uint64_t offset,
               std::uint64_t most) {
  return {.code = ErrorCode::LimitExceeded,
          .message = std::move(message),
          .file = file,
          .offset = offset,
          .expected = fmt::format("at most {}", most),
          .hint = std::string(kHint)};
}

/// The library builds whatever it is given: depth and number are counted before.
Status check_shape(std::string_view text, const std::string& file, const JsonLimits& limits) {
  unsigned depth = 0;
  std::uint64_t values = 1;
  bool quoted = false;
  for (std::size_t i = 0; i < text.size(); ++i) {
    const char c = text[i];
    if (quoted) {
      if (c == '\\')
        ++i;
      else if (c == '"')
        quoted = false;
      continue;
    }
    if (c == '"') quoted = true;
    if (c == '[' || c == '{') ++depth;
    if ((c == ']' || c == '}') && depth > 0) --depth;
    values += c == ',' || c == '[' || c == '{' ? 1 : 0;
    if (depth > limits.depth)
      return fail(too_much("values are nested too deep in the JSON", file, i, limits.depth));
    if (values > limits.values)
      return fail(too_much("the JSON holds too many values", file, i, limits.values));
  }
  return {};
}

std::string shown(const Library& value) {
  constexpr std::size_t kMost = 60;
  if (value.is_structured()) return value.type_name();
  std::string text = value.dump(-1, ' ', false, Library::error_handler_t::replace);
  if (text.size() > kMost) text = text.substr(0, kMost) + "...";
  return text;
}

}  // namespace

/// The heavy half of JsonValue.
class JsonAccess {
 public:
  static const Library& node(const JsonValue& value) {
    return *static_cast<const Library*>(value.node_.get());
  }
  static JsonValue root(std::shared_ptr<const Library> document, const std::string& file) {
    JsonValue out;
    out.node_ = std::move(document);
    out.file_ = std::make_shared<const std::string>(file);
    return out;
  }
  static JsonValue child(const JsonValue& parent, const Library& node, std::string place) {
    JsonValue out = parent;
    out.node_ = std::shared_ptr<const void>(parent.node_, &node);
    out.place_ = std::move(place);
    return out;
  }
  static std::string place(const JsonValue& parent, std::string_view key) {
    const std::string name = printable(key.substr(0, 60));
    return parent.place_.empty() ? name : parent.place_ + "." + name;
  }
  /// nullptr: it is absent.
  static const Library* member(const JsonValue& parent, std::string_view key) {
    const Library& object = node(parent);
    if (!object.is_object()) return nullptr;
    const auto at = object.find(std::string(key));
    return at == object.end() || at->is_null() ? nullptr : &*at;
  }
  static std::unexpected<Error> wrong_type(const JsonValue& parent, std::string_view key,
                                           std::string_view wanted, const Library& found) {
    return fail({.code = ErrorCode::BadValue,
                 .message = fmt::format("{} is of the wrong type", place(parent, key)),
                 .file = *parent.file_,
                 .expected = std::string(wanted),
                 .found = shown(found),
                 .hint = std::string(kHint)});
  }
  static std::unexpected<Error> missing(const JsonValue& parent, std::string_view key) {
    return fail({.code = ErrorCode::BadValue,
                 .message = fmt::format("{} is missing", place(parent, key)),
                 .file = *parent.file_,
                 .hint = std::string(kHint)});
  }
  /// The member as an array. @param each  is given value and place of each of its values
  template <class Each>
  static Status elements(const JsonValue& parent, std::string_view key, Each each) {
    const Library* const array = member(parent, key);
    if (array == nullptr) return {};
    if (!array->is_array()) return wrong_type(parent, key, "an array", *array);
    std::size_t index = 0;
    for (const Library& one : *array)
      WEXLO_CHECK(each(one, fmt::format("{}[{}]", key, index++)));
    return {};
  }
};

bool JsonValue::is_object() const {
  return JsonAccess::node(*this).is_object();
}

bool JsonValue::has(std::string_view key) const {
  return JsonAccess::member(*this, key) != nullptr;
}

std::unexpected<Error> JsonValue::wrong(std::string_view key, std::string message) const {
  return fail({.code = ErrorCode::BadValue,
               .message = fmt::format("{}: {}", JsonAccess::place(*this, key), message),
               .file = *file_,
               .hint = std::string(kHint)});
}

Result<std::optional<JsonValue>> JsonValue::object_if(std::string_view key) const {
  const Library* const found = JsonAccess::member(*this, key);
  if (found == nullptr) return std::nullopt;
  if (!found->is_object()) return JsonAccess::wrong_type(*this, key, "an object", *found);
  return JsonAccess::child(*this, *found, JsonAccess::place(*this, key));
}

Result<JsonValue> JsonValue::object(std::string_view key) const {
  WEXLO_TRY(auto found, object_if(key));
  if (!found) return JsonAccess::missing(*this, key);
  return std::move(*found);
}

Result<std::string> JsonValue::text(std::string_view key) const {
  if (!has(key)) return JsonAccess::missing(*this, key);
  return text_or(key, {});
}

Result<std::string> JsonValue::text_or(std::string_view key, std::string fallback) const {
  const Library* const found = JsonAccess::member(*this, key);
  if (found == nullptr) return fallback;
  if (!found->is_string()) return JsonAccess::wrong_type(*this, key, "a text", *found);
  return found->get<std::string>();
}

Result<std::optional<std::uint64_t>> JsonValue::number_if(std::string_view key) const {
  const Library* const found = JsonAccess::member(*this, key);
  if (found == nullptr) return std::nullopt;
  if (!found->is_number_unsigned())
    return JsonAccess::wrong_type(*this, key, "a number from 0 on", *found);
  return found->get<std::uint64_t>();
}

Result<std::uint64_t> JsonValue::number(std::string_view key) const {
  WEXLO_TRY(const auto found, number_if(key));
  if (!found) return JsonAccess::missing(*this, key);
  return *found;
}

Result<bool> JsonValue::flag_or(std::string_view key, bool fallback) const {
  const Library* const found = JsonAccess::member(*this, key);
  if (found == nullptr) return fallback;
  if (!found->is_boolean()) return JsonAccess::wrong_type(*this, key, "true or false", *found);
  return found->get<bool>();
}

Result<bool> JsonValue::flag(std::string_view key) const {
  if (!has(key)) return JsonAccess::missing(*this, key);
  return flag_or(key, false);
}

Result<std::vector<JsonValue>> JsonValue::objects(std::string_view key) const {
  std::vector<JsonValue> out;
  WEXLO_CHECK(
      JsonAccess::elements(*this, key, [&](const Library& one, const std::string& name) -> Status {
        if (!one.is_object()) return JsonAccess::wrong_type(*this, name, "an object", one);
        out.push_back(JsonAccess::child(*this, one, JsonAccess::place(*this, name)));
        return {};
      }));
  return out;
}

Result<std::vector<std::string>> JsonValue::texts(std::string_view key) const {
  std::vector<std::string> out;
  WEXLO_CHECK(
      JsonAccess::elements(*this, key, [&](const Library& one, const std::string& name) -> Status {
        if (!one.is_string()) return JsonAccess::wrong_type(*this, name, "a text", one);
        out.push_back(one.get<std::string>());
        return {};
      }));
  return out;
}

Result<std::vector<std::pair<std::string, std::string>>> JsonValue::text_members(
    std::string_view key) const {
  std::vector<std::pair<std::string, std::string>> out;
  WEXLO_TRY(const auto object, object_if(key));
  if (!object) return out;
  for (const auto& [name, value] : JsonAccess::node(*object).items()) {
    if (!value.is_string()) return JsonAccess::wrong_type(*object, name, "a text", value);
    out.emplace_back(name, value.get<std::string>());
  }
  return out;
}

Result<JsonValue> parse_json(std::string_view text, const std::string& file,
                             const JsonLimits& limits) {
  if (text.size() > limits.size)
    return fail(too_much("the JSON is too large", file, 0, limits.size));
  WEXLO_CHECK(check_shape(text, file, limits));
  try {
    auto document = std::make_shared<const Library>(Library::parse(text));
    JsonValue out = JsonAccess::root(std::move(document), file);
    if (out.is_object()) return out;
    return fail({.code = ErrorCode::BadValue,
                 .message = "the JSON is not an object",
                 .file = file,
                 .offset = 0,
                 .expected = "an object",
                 .found = shown(JsonAccess::node(out)),
                 .hint = std::string(kHint)});
  } catch (const Library::parse_error& error) {
    return fail({.code = ErrorCode::BadValue,
                 .message = "this is not readable as JSON",
                 .file = file,
                 .offset = error.byte > 0 ? error.byte - 1 : 0,
                 .hint = std::string(kHint)});
  } catch (const Library::exception& error) {
    // A number outside what the library can hold.
    return fail({.code = ErrorCode::BadValue,
                 .message = "this is not readable as JSON",
                 .file = file,
                 .found = error.what(),
                 .hint = std::string(kHint)});
  }
}

Result<JsonValue> read_json(const std::filesystem::path& file, const JsonLimits& limits) {
  WEXLO_TRY(const SourcePtr source, open_file(file));
  WEXLO_TRY(const Blob text, read_all(*source, limits.size));
  return parse_json(as_text(text.view()), file.string(), limits);
}

Status check_format(const JsonValue& top, const std::string& file, std::string_view what,
                    std::uint64_t known) {
  WEXLO_TRY(const std::uint64_t format, top.number("format"));
  if (format == known) return {};
  return fail({.code = ErrorCode::Unsupported,
               .message = fmt::format("{} of another format version", what),
               .file = file,
               .expected = fmt::format("{}", known),
               .found = fmt::format("{}", format),
               .hint = "Make it anew with this version, or use the version that made it."});
}

}  // namespace wexlo
