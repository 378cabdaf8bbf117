#include "recipe/recipe.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "base/contains.hpp"
#include "base/source.hpp"
#include "recipe/fields.hpp"
#include "text/nearest.hpp"
#include "text/toml_read.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

constexpr std::int64_t kRecipeFormat = 1;
constexpr std::uint64_t kMaxRecipe = 4u << 20;
/// A file with more mistakes in its syntax is no recipe.
constexpr int kMostSyntaxMistakes = 20;

/// Reads one recipe's tables, keeping every mistake.
class RecipeReader {
 public:
  RecipeReader(FileStorePtr files, const Settings& settings, bool describe_only)
      : settings_(settings) {
    recipe_.settings = settings;
    recipe_.files = files;
    reading_.files = std::move(files);
    reading_.describe_only = describe_only;
  }

  /// Values of phone and image. Files are not read.
  void fill_in(const Values& values) {
    reading_.told = values;
    reading_.bind_files = false;
  }

  Recipe run(std::string_view text) {
    recipe_.text = text;
    parse(std::string(text));
    Fields top(table_, reading_);
    format(top);
    recipe_.name = top.text("name");
    recipe_.about = top.text_or("about", "");
    if (top.has("shows")) recipe_.shows = top.texts("shows");
    parameters(top);
    if (const toml::table* needs = top.table("needs"))
      recipe_.needs = read_needs(*needs, reading_, recipe_.phone_needs);
    processors(top);
    edits(top);
    top.finish();
    unused();
    std::ranges::stable_sort(reading_.mistakes, {}, [](const Mistake& mistake) {
      return std::pair(mistake.line, mistake.column);
    });
    return std::move(recipe_);
  }

  std::vector<Mistake>& mistakes() { return reading_.mistakes; }

 private:
  /// The library stops at the first mistake in the syntax: its line is blanked and the rest read
  /// again, so that a person sees all of them at once.
  void parse(std::string text) {
    if (const auto shape = check_toml_shape(text, {}); !shape) {
      reading_.mistakes.push_back({.code = shape.error().code,
                                   .message = shape.error().message,
                                   .expected = shape.error().expected,
                                   .weight = 2});
      return;
    }
    for (int tries = 0; tries < kMostSyntaxMistakes; ++tries) {
      try {
        table_ = toml::parse(text);
        return;
      } catch (const toml::parse_error& error) {
        const auto line = error.source().begin.line;
        reading_.mistakes.push_back({.line = line,
                                     .column = error.source().begin.column,
                                     .message = std::string(error.description()),
                                     .weight = 2});
        if (!blank_line(text, line)) return;
      }
    }
  }

  static bool blank_line(std::string& text, std::size_t line) {
    std::size_t begin = 0;
    while (--line > 0 && begin != std::string::npos)
      begin = text.find('\n', begin) + 1;
    const std::size_t end = std::min(text.find('\n', begin), text.size());
    bool any = false;
    for (std::size_t i = begin; i < end; ++i) {
      any |= text[i] != ' ';
      text[i] = ' ';
    }
    return any;
  }

  void format(Fields& top) {
    const auto found = table_["format"].value_exact<std::int64_t>();
    if (!top.has("format")) return top.wrong("format is missing: it says `format = 1`");
    if (found == kRecipeFormat) return;
    top.wrong("format", "a recipe of another format", ErrorCode::Unsupported);
    reading_.mistakes.back().weight = 1;
    reading_.mistakes.back().expected = fmt::format("format = {}", kRecipeFormat);
    reading_.mistakes.back().found = found ? fmt::format("{}", *found) : "no number";
  }

  void parameters(Fields& top) {
    const toml::table* rows = top.table("parameters");
    if (rows == nullptr) return;
    for (const auto& [key, value] : *rows) {
      const toml::table* row = value.as_table();
      if (row == nullptr) {
        reading_.mistake(value, fmt::format("parameter {} is not a table", key.str()));
        continue;
      }
      Fields f(*row, reading_);
      Parameter parameter{.name = std::string(key.str()),
                          .about = f.text_or("about", ""),
                          .fallback = f.optional_text("default"),
                          .file = f.flag("file")};
      f.finish();
      if (const ValueRow* taken = value_row(parameter.name))
        reading_.mistake(value, fmt::format("\"{}\" is {}: a parameter needs another name",
                                            taken->name, taken->about));
      fill(parameter, *row);
      recipe_.parameters.push_back(std::move(parameter));
    }
  }

  void fill(const Parameter& parameter, const toml::table& row) {
    const auto at = settings_.find(parameter.name);
    if (at != settings_.end()) {
      // A path given on the command line counts from where the command was typed.
      reading_.values[parameter.name] =
          parameter.file ? fs::absolute(at->second).string() : at->second;
      recipe_.given[parameter.name] =
          parameter.file ? fs::path(at->second).filename().string() : at->second;
    } else if (parameter.fallback) {
      reading_.values[parameter.name] = *parameter.fallback;
    } else {
      reading_.values[parameter.name] = "";
      reading_.unfilled.insert(parameter.name);
      if (!reading_.describe_only) no_value(parameter, row);
    }
  }

  void no_value(const Parameter& parameter, const toml::table& row) {
    reading_.mistake(
        row,
        fmt::format("recipe {} needs a value for \"{}\"{}; add --set {}=VALUE", recipe_.name,
                    parameter.name, parameter.about.empty() ? "" : ": " + parameter.about,
                    parameter.name),
        ErrorCode::Usage);
    reading_.mistakes.back().weight = 1;
  }

  void processors(Fields& top) {
    const toml::table* rows = top.table("processors");
    if (rows == nullptr) return;
    Fields f(*rows, reading_);
    const auto arch = reading_.told.find("arch");
    for (const char* name : {"arm64", "arm", "x86_64", "x86", "riscv64"})
      if (auto word = f.optional_text(name)) recipe_.processors[name] = std::move(*word);
    f.finish();
    if (arch == reading_.told.end()) return;
    if (const auto word = recipe_.processors.find(arch->second); word != recipe_.processors.end())
      arch->second = word->second;
  }

  void edits(Fields& top) {
    if (!top.has("edit")) return top.wrong("the recipe has no [[edit]]");
    const toml::array* rows = table_["edit"].as_array();
    if (rows == nullptr) return top.wrong("edit", "an edit begins with [[edit]]");
    for (const toml::node& node : *rows) {
      if (!node.is_table()) {
        reading_.mistake(node, "an edit is a table: it begins with [[edit]]");
        continue;
      }
      Edit edit = read_edit(*node.as_table(), reading_);
      edit.recipe = recipe_.name;
      edit.shows = recipe_.shows;
      recipe_.edits.push_back(std::move(edit));
    }
  }

  void unused() {
    for (const Parameter& parameter : recipe_.parameters)
      if (!reading_.used.contains(parameter.name)) {
        reading_.mistake(*table_["parameters"].as_table()->get(parameter.name),
                         fmt::format("parameter {} is used nowhere", parameter.name));
        reading_.mistakes.back().warning = true;
      }
  }

  const Settings settings_;
  toml::table table_;
  Reading reading_;
  Recipe recipe_;
};

Error error_of(const std::vector<Mistake>& mistakes, std::string file) {
  const auto heavier = [](const Mistake& a, const Mistake& b) {
    return std::pair(a.warning, -a.weight) < std::pair(b.warning, -b.weight);
  };
  const Mistake& first = *std::ranges::min_element(mistakes, heavier);
  const auto count = std::ranges::count(mistakes, false, &Mistake::warning);
  std::string where;
  if (first.line != 0) where = fmt::format("line {}, column {}: ", first.line, first.column);
  Error error{.code = first.code,
              .message = where + first.message,
              .file = file,
              .expected = first.expected,
              .found = first.found,
              .hint = "Correct the line and run it again."};
  if (first.code == ErrorCode::Unsupported)
    error.hint = "Take a recipe for this version, or a newer Wexlo.";
  if (first.code == ErrorCode::Usage) error.hint = "See: wexlo recipes, and docs/recipes.md.";
  if (count > 1)
    error.hint += fmt::format(" There {} {} more: wexlo recipes --check {}",
                              count == 2 ? "is" : "are", count - 1, file);
  return error;
}

Error unknown_recipe(const std::string& spec, const std::vector<std::string>& names) {
  return {.code = ErrorCode::NotFound,
          .message = "no recipe of this name comes with Wexlo",
          .file = spec,
          .hint = did_you_mean(spec, names) + "wexlo recipes lists them."};
}

struct Found {
  std::string text;
  FileStorePtr files;
};

Result<Found> find_recipe(const std::string& spec) {
  if (!spec.starts_with('@')) {
    const auto opened = open_file(spec);
    if (!opened) {
      Error why = opened.error();
      if (why.code == ErrorCode::NotFound) why.message = "there is no recipe file of this name";
      return fail(std::move(why));
    }
    WEXLO_TRY(const Blob text, read_all(**opened, kMaxRecipe));
    return Found{std::string(as_text(text.view())), files_beside(fs::path(spec).parent_path())};
  }
  std::vector<std::string> names;
  for (const BundledRecipe& bundled : bundled_recipes()) {
    names.push_back("@" + bundled.name);
    if (names.back() == spec) return Found{std::string(bundled.text), files_beside({})};
  }
  return fail(unknown_recipe(spec, names));
}

}  // namespace

std::optional<Error> recipe_error(const std::vector<Mistake>& mistakes, const std::string& file) {
  if (!contains(mistakes, false, &Mistake::warning)) return std::nullopt;
  return error_of(mistakes, file);
}

Result<Recipe> read_recipe(std::string_view text, const std::string& name,
                           const FileStorePtr& files, const Settings& settings) {
  RecipeReader reader(files, settings, false);
  Recipe recipe = reader.run(text);
  recipe.spec = name;
  // Files are asked for when it is known which image is patched.
  std::erase_if(reader.mistakes(), [](const Mistake& one) { return one.of_file; });
  if (auto error = recipe_error(reader.mistakes(), name)) return fail(std::move(*error));
  for (Edit& edit : recipe.edits)
    if (FileRef* file = edit.file(); file != nullptr && file->missing) file->missing->file = name;
  return recipe;
}

Result<Recipe> describe_recipe(std::string_view text, const std::string& name) {
  RecipeReader reader(files_beside({}), {}, true);
  Recipe recipe = reader.run(text);
  if (auto error = recipe_error(reader.mistakes(), name)) return fail(std::move(*error));
  return recipe;
}

Result<Recipe> load_recipe(const std::string& spec, const Settings& settings) {
  WEXLO_TRY(const Found found, find_recipe(spec));
  return read_recipe(found.text, spec, found.files, settings);
}

Result<std::vector<Mistake>> check_recipe(const std::string& spec, const Settings& settings) {
  WEXLO_TRY(const Found found, find_recipe(spec));
  RecipeReader reader(found.files, settings, false);
  const Recipe recipe = reader.run(found.text);
  std::ranges::move(left_out_layouts(recipe), std::back_inserter(reader.mistakes()));
  std::ranges::stable_sort(reader.mistakes(), {}, [](const Mistake& mistake) {
    return std::pair(mistake.line, mistake.column);
  });
  // A parameter without a value is the caller's to give, not the recipe's mistake.
  std::erase_if(reader.mistakes(),
                [](const Mistake& mistake) { return mistake.code == ErrorCode::Usage; });
  return std::move(reader.mistakes());
}

Result<std::vector<Recipe>> load_recipes(const std::vector<std::string>& specs,
                                         const Settings& settings) {
  std::vector<Recipe> recipes;
  for (const std::string& spec : specs) {
    WEXLO_TRY(Recipe recipe, load_recipe(spec, settings));
    recipes.push_back(std::move(recipe));
  }
  WEXLO_CHECK(check_settings(recipes, settings));
  return recipes;
}

Status check_settings(const std::vector<Recipe>& recipes, const Settings& settings) {
  std::set<std::string> known;
  for (const ValueRow& row : value_rows())
    if (row.of_phone) known.emplace(row.name);
  for (const Recipe& recipe : recipes)
    for (const Parameter& parameter : recipe.parameters)
      known.insert(parameter.name);
  for (const auto& [name, value] : settings)
    if (!known.contains(name))
      return fail({.code = ErrorCode::Usage,
                   .message = fmt::format("no recipe of this call has a parameter \"{}\"", name),
                   .expected = fmt::format("{}", fmt::join(known, ", ")),
                   .hint = did_you_mean(name, std::vector(known.begin(), known.end())) +
                           "wexlo recipes shows the parameters of those that come with Wexlo."});
  return {};
}

Result<Recipe> with_values(const Recipe& recipe, const Values& values) {
  RecipeReader reader(recipe.files, recipe.settings, false);
  reader.fill_in(values);
  Recipe out = reader.run(recipe.text);
  if (auto error = recipe_error(reader.mistakes(), recipe.spec)) return fail(std::move(*error));
  out.spec = recipe.spec;
  for (std::size_t i = 0; i < out.edits.size(); ++i) {
    const FileRef* known = recipe.edits[i].file();
    if (known != nullptr && (known->bound || known->open.empty())) *out.edits[i].file() = *known;
  }
  return out;
}

}  // namespace wexlo
