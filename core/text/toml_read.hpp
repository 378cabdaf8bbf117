#pragma once
/// Reading TOML files with errors that name the line: thin helpers over toml++, for .cpp files only
/// (the library's header is heavy).

#include <toml++/toml.h>

#include <filesystem>

#include "base/error.hpp"

namespace wexlo {

/// Errors: NotFound, Io, LimitExceeded (over 4 MiB), BadValue with line and column.
[[nodiscard]] Result<toml::table> read_toml(const std::filesystem::path& path);
[[nodiscard]] Result<toml::table> parse_toml(std::string_view text, const std::string& name);

/// TOML before it is parsed: the library takes keys of any number of parts and any number of
/// values, and goes through them by recursion. Errors: LimitExceeded with the line (a key of more
/// than 32 parts, values more than 32 deep, more than 200,000 values).
[[nodiscard]] Status check_toml_shape(std::string_view text, const std::string& name);

/// BadValue at a node's line: `FILE: line 3: MESSAGE`.
[[nodiscard]] Error toml_error(const toml::node& node, std::string message, std::string file);

/// A value that has to be there. Errors: BadValue (missing, or of another type).
template <class T>
[[nodiscard]] Result<T> toml_get(const toml::table& table, std::string_view key,
                                 const std::string& file) {
  const toml::node* node = table.get(key);
  if (node == nullptr) return fail(toml_error(table, std::string(key) + " is missing", file));
  const auto value = node->value_exact<T>();
  if (!value) return fail(toml_error(*node, std::string(key) + " is of the wrong type", file));
  return *value;
}

/// A value that may be absent. Errors: BadValue (of another type).
template <class T>
[[nodiscard]] Result<T> toml_get_or(const toml::table& table, std::string_view key, T fallback,
                                    const std::string& file) {
  if (!table.contains(key)) return fallback;
  return toml_get<T>(table, key, file);
}

/// A list that may be absent (nullptr). Errors: BadValue (of another type).
[[nodiscard]] inline Result<const toml::array*> toml_list(const toml::table& table,
                                                          std::string_view key,
                                                          const std::string& file) {
  const toml::node* node = table.get(key);
  if (node == nullptr) return nullptr;
  if (const toml::array* list = node->as_array()) return list;
  return fail(
      toml_error(*node, std::string(key) + " is of the wrong type: a list is wanted", file));
}

/// The tables of a list that may be absent (none then). Errors: BadValue (of another type).
[[nodiscard]] inline Result<std::vector<const toml::table*>> toml_tables(const toml::table& table,
                                                                         std::string_view key,
                                                                         const std::string& file) {
  std::vector<const toml::table*> out;
  WEXLO_TRY(const toml::array* const list, toml_list(table, key, file));
  if (list == nullptr) return out;
  for (const toml::node& node : *list) {
    if (!node.is_table()) return fail(toml_error(node, std::string(key) + " is not a table", file));
    out.push_back(node.as_table());
  }
  return out;
}

}  // namespace wexlo
