#pragma once
/// Reading a recipe's tables so that every mistake is found, not just the first: a reader goes on
/// with an empty value. For .cpp files only (toml++ is heavy).

#include <toml++/toml.h>

#include <set>

#include "recipe/edit.hpp"
#include "recipe/mistake.hpp"
#include "recipe/values.hpp"

namespace wexlo {

/// What a text may name beside parameters: values that only the phone or the image tells.
enum class Names : std::uint8_t {
  Parameters,
  Phone,  ///< and what is the same for all images of a phone
  All,
};

/// What all tables of one recipe share.
struct Reading {
  Values values;               ///< of parameters
  Values told;                 ///< of phone and image, as far as they are known yet
  bool describe_only = false;  ///< parameters may be without a value
  bool bind_files = true;      ///< files whose names are known are read, too
  FileStorePtr files;
  std::vector<Mistake> mistakes;
  std::set<std::string> used;      ///< parameters that some text asked for
  std::set<std::string> unfilled;  ///< parameters without a value: what hangs on them is not known

  void mistake(const toml::node& node, std::string message, ErrorCode code = ErrorCode::BadValue);
};

class Fields {
 public:
  Fields(const toml::table& table, Reading& reading) : table_(table), reading_(reading) {}

  [[nodiscard]] bool has(std::string_view key);
  [[nodiscard]] bool is_text(std::string_view key);
  [[nodiscard]] std::string text(std::string_view key);  ///< has to be there
  [[nodiscard]] std::string text_or(std::string_view key, std::string fallback);
  [[nodiscard]] std::optional<std::string> optional_text(std::string_view key);
  /// A list of texts; a single text is a list of one.
  [[nodiscard]] std::vector<std::string> texts(std::string_view key);
  [[nodiscard]] bool flag(std::string_view key);
  [[nodiscard]] std::optional<std::uint32_t> number(std::string_view key, std::uint32_t most,
                                                    std::uint32_t least = 0);
  [[nodiscard]] std::vector<std::uint32_t> numbers(std::string_view key);
  /// NAME = "VALUE" in a table of its own; numbers are taken as text.
  [[nodiscard]] Pairs pairs(std::string_view key);
  /// A place inside the ramdisk, as newc::place_of spells it; a mistake when it leaves it.
  [[nodiscard]] std::string place(std::string_view key, bool root_too = false);
  [[nodiscard]] FileRef file(std::string_view key, bool tree = false);
  [[nodiscard]] Access access();
  /// A table below this one; nullptr when there is none.
  [[nodiscard]] const toml::table* table(std::string_view key);

  /// From here on texts may name these.
  void allow(Names names) { names_ = names; }
  /// These stay `${name}` in all texts: somebody else fills them in.
  void let_stand(std::set<std::string> names) { let_stand_ = std::move(names); }
  /// Values that were named and that are not known yet.
  [[nodiscard]] const std::set<std::string>& open() const { return open_; }

  void wrong(std::string_view key, std::string message, ErrorCode code = ErrorCode::BadValue);
  void wrong(std::string message) { reading_.mistake(table_, std::move(message)); }
  /// A misspelled key must not be an edit that silently does less.
  void finish();
  /// All that was asked for and found, in one form.
  [[nodiscard]] std::string settings() const;

 private:
  const toml::node* find(std::string_view key);
  /// @param keep  parameters stay `${name}`
  std::optional<std::string> expanded(std::string_view key, const toml::node& node,
                                      bool keep = false);
  std::optional<std::string> value_of(const std::string& name, const toml::node& node, bool keep);
  void note(std::string_view key, std::string_view value);
  /// Whether a text hangs on a parameter that has no value yet.
  [[nodiscard]] bool is_open(const toml::node& node) const;

  const toml::table& table_;
  Reading& reading_;
  Names names_ = Names::Parameters;
  std::set<std::string> open_, let_stand_;
  std::vector<std::string> asked_;
  std::map<std::string, std::string> settings_;
};

/// Reads one [[edit]]; mistakes go to the reading.
[[nodiscard]] Edit read_edit(const toml::table& table, Reading& reading);
/// The same for tables of conditions.
[[nodiscard]] Conditions read_conditions(const toml::table& table, Reading& reading);
/// A recipe's `[needs]`: conditions, and what only a phone's sheet can tell.
[[nodiscard]] Conditions read_needs(const toml::table& table, Reading& reading, PhoneNeeds& phone);

}  // namespace wexlo
