/// The tray's file: every firmware x recipes x sheet of every job.

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <set>

#include "base/contains.hpp"
#include "job/batch.hpp"
#include "text/toml_read.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

constexpr std::int64_t kTrayFormat = 1;
constexpr std::size_t kMostJobs = 10'000;

using Texts = std::vector<std::string>;

class TrayReader {
 public:
  explicit TrayReader(const fs::path& file) : file_(file.string()), folder_(file.parent_path()) {}

  Result<std::vector<TrayJob>> read() {
    WEXLO_TRY(const toml::table top, read_toml(file_));
    WEXLO_TRY(const auto format, toml_get_or<std::int64_t>(top, "format", kTrayFormat, file_));
    if (format != kTrayFormat)
      return fail({.code = ErrorCode::Unsupported,
                   .message = "a tray of another format version",
                   .file = file_,
                   .expected = fmt::format("{}", kTrayFormat),
                   .found = fmt::format("{}", format)});
    for (const auto& [key, node] : top)
      if (key.str() != "format" && key.str() != "job")
        return wrong(node,
                     fmt::format("a tray has no \"{}\"; it has format and [[job]]", key.str()));
    const toml::array* jobs = top.get_as<toml::array>("job");
    if (jobs == nullptr || jobs->empty())
      return fail(
          {.code = ErrorCode::BadValue, .message = "the tray has no [[job]]", .file = file_});
    for (const toml::node& one : *jobs) {
      const toml::table* table = one.as_table();
      if (table == nullptr) return wrong(one, "job is a list of tables: [[job]]");
      WEXLO_CHECK(job(*table));
    }
    WEXLO_CHECK(check_kits());
    return std::move(out_);
  }

 private:
  std::unexpected<Error> wrong(const toml::node& node, std::string message) const {
    return fail(toml_error(node, std::move(message), file_));
  }

  /// From the tray's folder; what is no path of a folder stays: @name, addresses.
  [[nodiscard]] std::string placed(const std::string& path) const {
    if (path.empty() || path.starts_with('@') || path.find("://") != path.npos) return path;
    return fs::path(path).is_absolute() ? path : (folder_ / path).lexically_normal().string();
  }

  /// One text, or a list of them.
  Result<Texts> texts(const toml::table& table, std::string_view key) const {
    Texts out;
    const toml::node* node = table.get(key);
    if (node == nullptr) return out;
    if (const auto one = node->value_exact<std::string>()) return Texts{*one};
    const toml::array* list = node->as_array();
    if (list == nullptr) return wrong(*node, fmt::format("{} is a text or a list of texts", key));
    for (const toml::node& item : *list) {
      const auto one = item.value_exact<std::string>();
      if (!one) return wrong(item, fmt::format("{} is a text or a list of texts", key));
      out.push_back(*one);
    }
    return out;
  }

  Result<Texts> paths(const toml::table& table, std::string_view key) const {
    WEXLO_TRY(Texts out, texts(table, key));
    for (std::string& one : out)
      one = placed(one);
    return out;
  }

  /// `recipes = ["a", "b"]` are applied together; a list of lists are several kits.
  Result<std::vector<Texts>> recipe_sets(const toml::table& table) const {
    const toml::node* node = table.get("recipes");
    const toml::array* list = node == nullptr ? nullptr : node->as_array();
    const bool nested = list != nullptr && !list->empty() && list->front().is_array();
    if (!nested) {
      WEXLO_TRY(Texts one, paths(table, "recipes"));
      return std::vector<Texts>{std::move(one)};
    }
    std::vector<Texts> out;
    for (const toml::node& item : *list) {
      toml::table wrapped{{"recipes", item}};
      if (!item.is_array()) return wrong(item, "recipes are texts, or lists of them");
      WEXLO_TRY(Texts one, paths(wrapped, "recipes"));
      out.push_back(std::move(one));
    }
    return out;
  }

  Result<Settings> pairs(const toml::table& table, std::string_view key) const {
    Settings out;
    const toml::node* node = table.get(key);
    if (node == nullptr) return out;
    const toml::table* values = node->as_table();
    if (values == nullptr) return wrong(*node, fmt::format("{} is a table of texts", key));
    for (const auto& [name, value] : *values) {
      const auto text = value.value_exact<std::string>();
      if (!text) return wrong(value, fmt::format("{}.{} is a text", key, name.str()));
      out.emplace(name.str(), *text);
    }
    return out;
  }

  Status job(const toml::table& table) {
    static constexpr std::string_view kKeys[] = {"firmware", "recipes", "sheets", "kit",  "pair",
                                                 "like",     "stock",   "set",    "with", "install",
                                                 "accept",   "slots",   "wipe",   "key",  "signer"};
    for (const auto& [key, node] : table)
      if (!contains(kKeys, key.str()))
        return wrong(
            node, fmt::format("a job has no \"{}\"; it has {}", key.str(), fmt::join(kKeys, ", ")));
    TrayJob job{.wish = {}, .kit = {}, .line = table.source().begin.line};
    PrepareWish& wish = job.wish;
    WEXLO_CHECK(common(table, job));
    WEXLO_TRY(const Texts firmwares, paths(table, "firmware"));
    WEXLO_TRY(Texts sheets, paths(table, "sheets"));
    WEXLO_TRY(const auto recipes, recipe_sets(table));
    WEXLO_TRY(const auto kit, toml_get<std::string>(table, "kit", file_));
    if (firmwares.empty()) return wrong(table, "a job needs firmware");
    if (sheets.empty() && job.only_fitting)
      return wrong(table, "pair = \"fitting\" needs sheets to hold the firmware against");
    if (sheets.empty()) sheets.emplace_back();
    for (const std::string& sheet : sheets)
      for (const std::string& firmware : firmwares)
        for (const Texts& set : recipes) {
          wish.firmware = firmware;
          wish.sheet = sheet;
          wish.recipes = set;
          job.kit = placed(filled(kit, wish));
          if (out_.size() == kMostJobs)
            return wrong(table, fmt::format("a tray has at most {} kits", kMostJobs));
          out_.push_back(job);
        }
    return {};
  }

  Status common(const toml::table& table, TrayJob& job) {
    PrepareWish& wish = job.wish;
    WEXLO_TRY(const auto pair, toml_get_or<std::string>(table, "pair", "all", file_));
    if (pair != "all" && pair != "fitting")
      return wrong(*table.get("pair"), "pair is \"all\" or \"fitting\"");
    job.only_fitting = pair == "fitting";
    WEXLO_TRY(const auto like, toml_get_or<std::string>(table, "like", "", file_));
    wish.like = placed(like);
    WEXLO_TRY(wish.stock, toml_get_or<bool>(table, "stock", false, file_));
    WEXLO_TRY(wish.wipe, toml_get_or<bool>(table, "wipe", false, file_));
    WEXLO_TRY(const std::string slots, toml_get_or<std::string>(table, "slots", "", file_));
    wish.slots = slots_of(slots);
    if (!slots.empty() && !wish.slots)
      return wrong(*table.get("slots"), "slots is \"current\" or \"both\"");
    WEXLO_TRY(const auto key, toml_get_or<std::string>(table, "key", "", file_));
    wish.key = placed(key);
    WEXLO_TRY(const auto signer, toml_get_or<std::string>(table, "signer", "", file_));
    wish.signer = placed(signer);
    WEXLO_TRY(wish.settings, pairs(table, "set"));
    WEXLO_TRY(wish.accept, texts(table, "accept"));
    WEXLO_TRY(const auto with, pairs(table, "with"));
    for (const auto& [partition, path] : with)
      wish.given.push_back({partition, placed(path)});
    WEXLO_TRY(const Texts install, paths(table, "install"));
    for (const std::string& path : install)
      wish.given.push_back({"", path});
    return {};
  }

  /// `{firmware}`, `{sheet}` and `{recipes}` are the files' names without their endings.
  static std::string filled(std::string kit, const PrepareWish& wish) {
    const auto stem = [](const std::string& path) {
      std::string name = fs::path(path).filename().string();
      return name.substr(0, name.find('.'));
    };
    std::string recipes;
    for (const std::string& one : wish.recipes)
      recipes += (recipes.empty() ? "" : "+") + stem(one.starts_with('@') ? one.substr(1) : one);
    const auto put = [&](std::string_view mark, const std::string& text) {
      for (std::size_t at = kit.find(mark); at != kit.npos; at = kit.find(mark, at + text.size()))
        kit.replace(at, mark.size(), text);
    };
    put("{firmware}", stem(wish.firmware));
    put("{sheet}", stem(wish.sheet));
    put("{recipes}", recipes);
    return kit;
  }

  /// Of pairs that may not fit, only one is made: they may share a name.
  Status check_kits() const {
    std::map<std::string, const TrayJob*> by_kit;
    for (const TrayJob& one : out_) {
      const auto [at, fresh] = by_kit.emplace(one.kit, &one);
      const bool either = one.only_fitting && at->second->only_fitting &&
                          one.line == at->second->line &&
                          one.wish.firmware != at->second->wish.firmware;
      if (fresh || either) continue;
      return fail({.code = ErrorCode::Usage,
                   .message = fmt::format("two jobs would make the kit {}", one.kit),
                   .file = file_,
                   .found = fmt::format("lines {} and {}", at->second->line, one.line),
                   .hint = "Use {firmware}, {sheet} or {recipes} in its name."});
    }
    return {};
  }

  std::string file_;
  fs::path folder_;
  std::vector<TrayJob> out_;
};

}  // namespace

Result<std::vector<TrayJob>> read_tray(const fs::path& file) {
  return TrayReader(file).read();
}

}  // namespace wexlo
