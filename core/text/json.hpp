#pragma once
/// A JSON value for documents and replies: what they need and no more, so that they do not pay for
/// the library's heavy header. Objects keep the order they were filled in.

#include <concepts>
#include <cstdint>
#include <initializer_list>
#include <map>
#include <string>
#include <string_view>
#include <utility>
#include <variant>
#include <vector>

namespace wexlo {

class Json {
 public:
  using Member = std::pair<std::string, Json>;
  Json() = default;  ///< null
  Json(bool value) : value_(value) {}
  template <std::integral T>
  requires(!std::same_as<T, bool>) Json(T value) : value_(static_cast<std::int64_t>(value)) {}
  Json(const char* text) : value_(std::string(text)) {}
  Json(std::string text) : value_(std::move(text)) {}
  Json(std::string_view text) : value_(std::string(text)) {}
  Json(const std::vector<std::string>& texts);
  Json(const std::map<std::string, std::string>& texts);  ///< an object
  Json(std::initializer_list<Member> members);
  [[nodiscard]] static Json array();
  [[nodiscard]] static Json object();

  Json& operator[](const std::string& key);  ///< of an object; adds the key
  void push_back(Json item);                 ///< to an array
  /// Indented text. Bytes that are no UTF-8 are replaced.
  [[nodiscard]] std::string dump() const;
  /// The same on one line, without its end.
  [[nodiscard]] std::string line() const;
  /// Null when it is no JSON.
  [[nodiscard]] static Json parse(std::string_view text);

 private:
  friend struct JsonConvert;
  using Array = std::vector<Json>;
  using Object = std::vector<Member>;
  std::variant<std::monostate, bool, std::int64_t, std::string, Array, Object> value_;
};

}  // namespace wexlo
