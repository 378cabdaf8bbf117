#include "recipe/recipe.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <set>

#include "base/digest.hpp"
#include "base/source.hpp"
#include "base/toml_read.hpp"
#include "ramdisk/ramdisk.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

constexpr std::int64_t kFormat = 1;
constexpr std::uint64_t kMaxAddOn = 256u << 20;

/// Reads one recipe's tables; keeps what its edits are checked against.
class RecipeReader {
 public:
  RecipeReader(toml::table table, std::string file, fs::path folder, const Settings* settings)
      : table_(std::move(table)),
        file_(std::move(file)),
        folder_(std::move(folder)),
        settings_(settings) {}

  Result<Recipe> run() {
    WEXLO_CHECK(known_keys(table_, {"format", "name", "about", "parameters", "edit"}));
    WEXLO_TRY(const auto format, toml_get<std::int64_t>(table_, "format", file_));
    if (format != kFormat)
      return fail({.code = ErrorCode::Unsupported,
                   .message = "a recipe of another format",
                   .file = file_,
                   .expected = fmt::format("format = {}", kFormat),
                   .found = fmt::format("{}", format),
                   .hint = "Take a recipe for this version, or a newer Wexlo."});
    WEXLO_TRY(recipe_.name, toml_get<std::string>(table_, "name", file_));
    WEXLO_TRY(recipe_.about, toml_get_or<std::string>(table_, "about", "", file_));
    WEXLO_CHECK(read_parameters());
    if (settings_ == nullptr) return std::move(recipe_);
    WEXLO_CHECK(fill_values());
    const toml::array* edits = table_["edit"].as_array();
    if (edits == nullptr || edits->empty())
      return fail(toml_error(table_, "the recipe has no [[edit]]", file_));
    for (const toml::node& node : *edits) {
      if (!node.is_table()) return fail(toml_error(node, "edit is not a table", file_));
      WEXLO_TRY(Edit edit, read_edit(*node.as_table()));
      recipe_.edits.push_back(std::move(edit));
    }
    return std::move(recipe_);
  }

 private:
  /// A misspelled key must not be an edit that silently does less.
  Status known_keys(const toml::table& table, std::initializer_list<std::string_view> known) const {
    for (const auto& [key, node] : table)
      if (std::ranges::find(known, key.str()) == known.end())
        return fail(toml_error(
            node,
            fmt::format("unknown key \"{}\"; known here: {}", key.str(), fmt::join(known, ", ")),
            file_));
    return {};
  }

  Status read_parameters() {
    const toml::node* node = table_.get("parameters");
    if (node == nullptr) return {};
    if (!node->is_table()) return fail(toml_error(*node, "parameters is not a table", file_));
    for (const auto& [key, value] : *node->as_table()) {
      const toml::table* row = value.as_table();
      if (row == nullptr) return fail(toml_error(value, "a parameter is not a table", file_));
      WEXLO_CHECK(known_keys(*row, {"about", "default", "file"}));
      Parameter parameter{.name = std::string(key.str())};
      WEXLO_TRY(parameter.about, toml_get_or<std::string>(*row, "about", "", file_));
      WEXLO_TRY(parameter.file, toml_get_or<bool>(*row, "file", false, file_));
      if (row->contains("default")) {
        WEXLO_TRY(parameter.fallback, toml_get<std::string>(*row, "default", file_));
      }
      recipe_.parameters.push_back(std::move(parameter));
    }
    return {};
  }

  Status fill_values() {
    for (const Parameter& parameter : recipe_.parameters) {
      const auto at = settings_->find(parameter.name);
      if (at != settings_->end()) {
        // A path given on the command line counts from where the command was typed.
        values_[parameter.name] = parameter.file ? fs::absolute(at->second).string() : at->second;
      } else if (parameter.fallback) {
        values_[parameter.name] = *parameter.fallback;
      } else {
        return fail({.code = ErrorCode::Usage,
                     .message = fmt::format("recipe {} needs a value for \"{}\"{}", recipe_.name,
                                            parameter.name,
                                            parameter.about.empty() ? "" : ": " + parameter.about),
                     .file = file_,
                     .hint = fmt::format("Add --set {}=VALUE.", parameter.name)});
      }
    }
    return {};
  }

  /// Replaces `${name}` by the parameter's value.
  Result<std::string> expand(const toml::node& node, std::string_view text) const {
    std::string out;
    while (!text.empty()) {
      const std::size_t begin = std::min(text.find("${"), text.size());
      out += text.substr(0, begin);
      text.remove_prefix(begin);
      if (text.empty()) break;
      const std::size_t end = text.find('}');
      const std::string name(text.substr(2, end == std::string_view::npos ? 0 : end - 2));
      const auto at = values_.find(name);
      if (at == values_.end())
        return fail(toml_error(node, fmt::format("no parameter is named \"{}\"", name), file_));
      out += at->second;
      text.remove_prefix(end + 1);
    }
    return out;
  }

  Result<std::string> text(const toml::table& table, std::string_view key) const {
    WEXLO_TRY(const auto raw, toml_get<std::string>(table, key, file_));
    return expand(*table.get(key), raw);
  }

  Result<std::vector<std::string>> texts(const toml::table& table, std::string_view key) const {
    const toml::node* node = table.get(key);
    const toml::array* array = node == nullptr ? nullptr : node->as_array();
    if (array == nullptr)
      return fail(toml_error(node == nullptr ? static_cast<const toml::node&>(table) : *node,
                             fmt::format("{} has to be a list of words", key), file_));
    std::vector<std::string> out;
    for (const toml::node& item : *array) {
      const auto word = item.value_exact<std::string>();
      if (!word) return fail(toml_error(item, fmt::format("{} holds no word here", key), file_));
      WEXLO_TRY(auto expanded, expand(item, *word));
      out.push_back(std::move(expanded));
    }
    return out;
  }

  Result<Edit> read_edit(const toml::table& table) {
    Edit edit{.recipe = recipe_.name, .line = table.source().begin.line};
    WEXLO_TRY(edit.kind, toml_get<std::string>(table, "kind", file_));
    WEXLO_TRY(edit.partition, toml_get_or<std::string>(table, "partition", "", file_));
    WEXLO_TRY(edit.may_miss, toml_get_or<bool>(table, "may_miss", false, file_));
    if (edit.kind == "put") {
      WEXLO_TRY(edit.what, read_put(table));
    } else if (edit.kind == "fstab-drop") {
      WEXLO_TRY(edit.what, read_fstab_drop(table));
    } else if (edit.kind == "property") {
      WEXLO_TRY(edit.what, read_property(table));
    } else if (edit.kind == "vbmeta-flags") {
      WEXLO_TRY(edit.what, read_vbmeta_flags(table));
    } else {
      Error error = toml_error(*table.get("kind"), "no such kind of edit", file_);
      error.code = ErrorCode::Unsupported;
      error.expected = "put, fstab-drop, property or vbmeta-flags";
      error.found = edit.kind;
      return fail(std::move(error));
    }
    return edit;
  }

  Result<std::optional<std::uint32_t>> number(const toml::table& table, std::string_view key,
                                              std::uint32_t limit) const {
    if (!table.contains(key)) return std::nullopt;
    WEXLO_TRY(const auto value, toml_get<std::int64_t>(table, key, file_));
    if (value < 0 || value > limit)
      return fail(toml_error(*table.get(key), fmt::format("{} is out of range", key), file_));
    return static_cast<std::uint32_t>(value);
  }

  Result<PutEdit> read_put(const toml::table& table) {
    WEXLO_CHECK(known_keys(table, {"kind", "partition", "may_miss", "path", "from", "mode", "uid",
                                   "gid", "keep_stock"}));
    PutEdit put;
    WEXLO_TRY(const std::string path, text(table, "path"));
    put.path = newc::place_of(path);
    if (put.path.empty() || ("/" + put.path + "/").find("/../") != std::string::npos)
      return fail(
          toml_error(*table.get("path"), "path does not name a file inside the ramdisk", file_));
    WEXLO_TRY(put.from, text(table, "from"));
    WEXLO_TRY(put.mode, number(table, "mode", 07777));
    WEXLO_TRY(put.uid, number(table, "uid", 0xffffffffu));
    WEXLO_TRY(put.gid, number(table, "gid", 0xffffffffu));
    WEXLO_TRY(put.keep_stock, toml_get_or<bool>(table, "keep_stock", false, file_));
    const fs::path source = folder_ / put.from;  // an absolute path stands for itself
    WEXLO_TRY(const SourcePtr file, open_file(source));
    WEXLO_TRY(put.content, read_all(*file, kMaxAddOn));
    put.from = source.filename().string();
    return put;
  }

  Result<FstabDropEdit> read_fstab_drop(const toml::table& table) const {
    WEXLO_CHECK(known_keys(table, {"kind", "partition", "may_miss", "mount_point", "flags"}));
    FstabDropEdit drop;
    WEXLO_TRY(drop.mount_point, text(table, "mount_point"));
    WEXLO_TRY(drop.flags, texts(table, "flags"));
    return drop;
  }

  Result<PropertyEdit> read_property(const toml::table& table) const {
    WEXLO_CHECK(known_keys(table, {"kind", "partition", "may_miss", "file", "set"}));
    PropertyEdit edit;
    WEXLO_TRY(const std::string file, text(table, "file"));
    edit.file = newc::place_of(file);
    const toml::table* values = table["set"].as_table();
    if (values == nullptr || values->empty())
      return fail(toml_error(table, "set has to be a table of NAME = \"VALUE\"", file_));
    for (const auto& [key, node] : *values) {
      const auto value = node.value_exact<std::string>();
      if (!value) return fail(toml_error(node, "a property's value has to be text", file_));
      WEXLO_TRY(std::string expanded, expand(node, *value));
      if (expanded.find_first_of("\r\n") != std::string::npos ||
          key.str().find_first_of("=\r\n") != std::string_view::npos)
        return fail(toml_error(node, "a property has to stay on one line", file_));
      edit.values.emplace_back(key.str(), std::move(expanded));
    }
    return edit;
  }

  Result<VbmetaFlagsEdit> read_vbmeta_flags(const toml::table& table) const {
    WEXLO_CHECK(known_keys(table, {"kind", "partition", "may_miss", "set", "clear"}));
    VbmetaFlagsEdit edit;
    const std::array rows{std::pair(std::string_view("set"), &edit.set),
                          std::pair(std::string_view("clear"), &edit.clear)};
    for (const auto& [key, into] : rows) {
      if (!table.contains(key)) continue;
      WEXLO_TRY(const auto words, texts(table, key));
      for (const std::string& word : words) {
        const auto flag = verified::flag_named(word);
        if (!flag)
          return fail(toml_error(*table.get(key),
                                 fmt::format("no vbmeta flag is named \"{}\"; known: "
                                             "hashtree-disabled, verification-disabled",
                                             word),
                                 file_));
        *into |= *flag;
      }
    }
    if ((edit.set | edit.clear) == 0 || (edit.set & edit.clear) != 0)
      return fail(toml_error(table, "set and clear name no flag, or the same one", file_));
    return edit;
  }

  toml::table table_;
  std::string file_;
  fs::path folder_;
  const Settings* settings_;  ///< nullptr: describe only
  std::map<std::string, std::string> values_;
  Recipe recipe_;
};

}  // namespace

Result<Recipe> describe_recipe(std::string_view text, const std::string& name) {
  WEXLO_TRY(toml::table table, parse_toml(text, name));
  return RecipeReader(std::move(table), name, {}, nullptr).run();
}

Result<Recipe> load_recipe(const std::string& spec, const Settings& settings) {
  if (!spec.starts_with('@')) {
    WEXLO_TRY(toml::table table, read_toml(spec));
    return RecipeReader(std::move(table), spec, fs::path(spec).parent_path(), &settings).run();
  }
  for (const BundledRecipe& bundled : bundled_recipes()) {
    if ("@" + bundled.name != spec) continue;
    WEXLO_TRY(toml::table table, parse_toml(bundled.text, spec));
    return RecipeReader(std::move(table), spec, {}, &settings).run();
  }
  return fail({.code = ErrorCode::NotFound,
               .message = "no recipe of that name comes with Wexlo",
               .file = spec,
               .hint = "See: wexlo recipes"});
}

Result<std::vector<Recipe>> load_recipes(const std::vector<std::string>& specs,
                                         const Settings& settings) {
  std::vector<Recipe> recipes;
  std::set<std::string> known;
  for (const std::string& spec : specs) {
    WEXLO_TRY(Recipe recipe, load_recipe(spec, settings));
    for (const Parameter& parameter : recipe.parameters)
      known.insert(parameter.name);
    recipes.push_back(std::move(recipe));
  }
  for (const auto& [name, value] : settings)
    if (!known.contains(name))
      return fail({.code = ErrorCode::Usage,
                   .message = fmt::format("no recipe of this call has a parameter \"{}\"", name),
                   .expected = known.empty() ? "none" : fmt::format("{}", fmt::join(known, ", "))});
  return recipes;
}

}  // namespace wexlo
