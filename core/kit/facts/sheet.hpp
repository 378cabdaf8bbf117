#pragma once
/// The sheet: what is known of one phone, each value with its source: docs/formats/sheet.md.

#include <filesystem>
#include <map>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "base/error.hpp"

namespace wexlo {

/// A value, and where it is from. An empty value is unknown.
struct Known {
  std::string value, source;
  bool operator==(const Known&) const = default;
};

struct LogicalPartition {
  std::string name;        ///< with its slot suffix
  std::uint64_t size = 0;  ///< bytes
  std::string group;       ///< empty: not known
  bool operator==(const LogicalPartition&) const = default;
};

struct LogicalGroup {
  std::string name;
  std::uint64_t size = 0;  ///< bytes that its partitions may take together; 0: no bound
  bool operator==(const LogicalGroup&) const = default;
};

struct Sheet {
  std::map<std::string, Known, std::less<>> facts;               ///< by key, see sheet_keys
  std::map<std::string, std::uint64_t, std::less<>> partitions;  ///< sizes in bytes
  std::vector<LogicalPartition> logical;                         ///< of super, as the phone has it
  std::vector<LogicalGroup> groups;
  std::map<std::uint32_t, std::uint64_t> rollback;  ///< stored indexes by location
  /// The technician's own notes on this phone, by name: keys and screens, where the switch for
  /// unlocking hides, what has to be switched off before.
  std::vector<std::pair<std::string, std::string>> access;

  /// Empty: unknown.
  [[nodiscard]] const std::string& text(std::string_view key) const;
  /// Decimal or 0x…; nullopt: unknown.
  [[nodiscard]] std::optional<std::uint64_t> number(std::string_view key) const;
  [[nodiscard]] const std::string& note(std::string_view name) const;  ///< empty: none
  /// The partition's size by its name with or without the slot; nullopt: unknown.
  [[nodiscard]] std::optional<std::uint64_t> size_of(std::string_view partition) const;
  /// Takes over what is known there and not here.
  void merge(const Sheet& other);
  /// Sets a fact when its value is one that the key takes; "" and "unknown" leave it unknown.
  /// @return false: the key is not known, or the value does not suit it
  bool set(std::string_view key, std::string value, std::string source);
};

enum class FactKind { Text, Number, Choice };

struct FactKey {
  std::string_view table, name;
  FactKind kind;
  std::string_view about;                 ///< for people
  std::string_view choices;               ///< of a Choice, parted by '|'
  [[nodiscard]] std::string key() const;  ///< "table.name"
};
/// All that a sheet can say, in the order it is written.
[[nodiscard]] std::span<const FactKey> sheet_keys();
/// The notes that plans print, with what each is about.
[[nodiscard]] std::span<const std::pair<std::string_view, std::string_view>> access_notes();

/// Errors: BadValue (with its line: a key that is not known, a value of the wrong type).
[[nodiscard]] Result<Sheet> parse_sheet(std::string_view text, const std::string& file);
[[nodiscard]] Result<Sheet> read_sheet(const std::filesystem::path& file);
/// parse_sheet(format_sheet(x)) == x. The same sheet gives the same bytes.
[[nodiscard]] std::string format_sheet(const Sheet& sheet);

/// Properties as they are pasted from a phone: `[name]: [value]` or `name=value` lines of a running
/// system, `name: value` lines of a bootloader, whatever stands before them on the line.
/// @param source  what the values' source is called, e.g. the file's name
[[nodiscard]] Sheet sheet_from_properties(std::string_view text, const std::string& source);

}  // namespace wexlo
