#pragma once
/// The part of JSON Schema that docs/schema/ uses, checked: type, enum, properties, required,
/// additionalProperties, items, anyOf, $ref to another file or to #/$defs.

#include <nlohmann/json.hpp>

#include "support/bytes.hpp"
#include "support/places.hpp"

namespace wexlo::test {

class Schemas {
 public:
  using Json = nlohmann::json;

  /// What is wrong with a value first, with its place; empty: nothing.
  /// @param name  of a file in docs/schema/, without its ending
  [[nodiscard]] std::string trouble(const std::string& name, const Json& value) {
    return look(file(name), file(name), value, name);
  }
  [[nodiscard]] bool has(const std::string& name) const {
    return std::filesystem::exists(path_of(name));
  }

 private:
  [[nodiscard]] static std::filesystem::path path_of(const std::string& name) {
    return std::filesystem::path(source_folder()) / "docs/schema" / (name + ".json");
  }

  const Json& file(const std::string& name) {
    const auto at = files_.find(name);
    if (at != files_.end()) return at->second;
    return files_.emplace(name, Json::parse(read(path_of(name)))).first->second;
  }

  static bool is_type(const Json& value, const std::string& type) {
    if (type == "integer") return value.is_number_integer();
    if (type == "number") return value.is_number();
    if (type == "string") return value.is_string();
    if (type == "boolean") return value.is_boolean();
    if (type == "array") return value.is_array();
    if (type == "object") return value.is_object();
    return type == "null" && value.is_null();
  }

  static bool fits_type(const Json& type, const Json& value) {
    if (type.is_string()) return is_type(value, type.get<std::string>());
    return std::ranges::any_of(
        type, [&](const Json& one) { return is_type(value, one.get<std::string>()); });
  }

  /// @param top  the file that `schema` stands in
  std::string look(const Json& top, const Json& schema, const Json& value,
                   const std::string& where) {
    static const std::set<std::string> kKnown{
        "$schema", "title",      "description", "type",
        "enum",    "properties", "required",    "additionalProperties",
        "items",   "anyOf",      "$ref",        "$defs"};
    for (const auto& [key, unused] : schema.items())
      if (!kKnown.contains(key)) return where + ": the schema uses " + key;
    if (schema.contains("$ref"))
      return follow(top, schema["$ref"].get<std::string>(), value, where);
    if (schema.contains("anyOf")) {
      // What stands beside it counts, too.
      std::string last;
      for (const Json& one : schema["anyOf"])
        if ((last = look(top, one, value, where)).empty()) break;
      if (!last.empty()) return last;
    }
    if (schema.contains("type") && !fits_type(schema["type"], value))
      return where + ": " + value.dump().substr(0, 60) + " is no " + schema["type"].dump();
    if (schema.contains("enum") && std::ranges::find(schema["enum"], value) == schema["enum"].end())
      return where + ": " + value.dump() + " is not among the words";
    if (value.is_object()) return object(top, schema, value, where);
    if (value.is_array() && schema.contains("items"))
      for (std::size_t i = 0; i < value.size(); ++i)
        if (auto bad = look(top, schema["items"], value[i], where + "/" + std::to_string(i));
            !bad.empty())
          return bad;
    return {};
  }

  std::string follow(const Json& top, const std::string& target, const Json& value,
                     const std::string& where) {
    const std::size_t hash = target.find('#');
    const std::string name = target.substr(0, target.find(".json"));
    const Json& other = hash == 0 ? top : file(name);
    if (hash == target.npos) return look(other, other, value, where);
    return look(other, other.at(Json::json_pointer(target.substr(hash + 1))), value, where);
  }

  std::string object(const Json& top, const Json& schema, const Json& value,
                     const std::string& where) {
    if (schema.contains("required"))
      for (const Json& one : schema["required"])
        if (!value.contains(one.get<std::string>())) return where + ": no " + one.dump();
    const Json none = Json::object();
    const Json& known = schema.contains("properties") ? schema["properties"] : none;
    for (const auto& [key, one] : value.items()) {
      const std::string place = where + "/" + key;
      std::string bad;
      if (known.contains(key))
        bad = look(top, known[key], one, place);
      else if (schema.contains("additionalProperties") &&
               schema["additionalProperties"].is_object())
        bad = look(top, schema["additionalProperties"], one, place);
      else if (schema.value("additionalProperties", Json(true)) == Json(false))
        bad = place + " is not in the schema";
      if (!bad.empty()) return bad;
    }
    return {};
  }

  std::map<std::string, Json> files_;
};

}  // namespace wexlo::test
