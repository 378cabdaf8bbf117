#include "text/json.hpp"

#include <algorithm>
#include <nlohmann/json.hpp>

namespace wexlo {

/// To the library's values and back.
struct JsonConvert {
  using Library = nlohmann::ordered_json;

  static Library to(const Json& json) {
    return std::visit([](const auto& value) { return to_library(value); }, json.value_);
  }

  static Json from(const Library& value) {
    if (value.is_boolean()) return value.get<bool>();
    if (value.is_number()) return value.get<std::int64_t>();
    if (value.is_string()) return value.get<std::string>();
    if (value.is_array()) {
      Json out = Json::array();
      for (const Library& item : value)
        out.push_back(from(item));
      return out;
    }
    if (!value.is_object()) return {};
    Json out = Json::object();
    for (const auto& [key, item] : value.items())
      out[key] = from(item);
    return out;
  }

 private:
  static Library to_library(std::monostate) { return nullptr; }
  static Library to_library(bool value) { return value; }
  static Library to_library(std::int64_t value) { return value; }
  static Library to_library(const std::string& value) { return value; }
  static Library to_library(const Json::Array& items) {
    Library out = Library::array();
    for (const Json& item : items)
      out.push_back(to(item));
    return out;
  }
  static Library to_library(const Json::Object& members) {
    Library out = Library::object();
    for (const auto& [key, value] : members)
      out[key] = to(value);
    return out;
  }
};

Json::Json(const std::vector<std::string>& texts) : value_(Array(texts.begin(), texts.end())) {}

Json::Json(const std::map<std::string, std::string>& texts)
    : value_(Object(texts.begin(), texts.end())) {}

Json::Json(std::initializer_list<Member> members) : value_(Object(members)) {}

Json Json::array() {
  Json out;
  out.value_ = Array{};
  return out;
}

Json Json::object() {
  Json out;
  out.value_ = Object{};
  return out;
}

Json& Json::operator[](const std::string& key) {
  auto& members = std::get<Object>(value_);
  const auto at = std::ranges::find(members, key, &Member::first);
  if (at != members.end()) return at->second;
  return members.emplace_back(key, Json()).second;
}

void Json::push_back(Json item) {
  std::get<Array>(value_).push_back(std::move(item));
}

std::string Json::dump() const {
  return JsonConvert::to(*this).dump(2, ' ', false,
                                     nlohmann::ordered_json::error_handler_t::replace);
}

std::string Json::line() const {
  return JsonConvert::to(*this).dump(-1, ' ', false,
                                     nlohmann::ordered_json::error_handler_t::replace);
}

Json Json::parse(std::string_view text) {
  return JsonConvert::from(nlohmann::ordered_json::parse(text, nullptr, false));
}

}  // namespace wexlo
