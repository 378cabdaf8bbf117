#include "kit/plan/plan_toml.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "text/toml_read.hpp"
#include "text/toml_write.hpp"

namespace wexlo {
namespace {

constexpr std::int64_t kFormat = 2;
constexpr unsigned kMostPieces = 100000;

/// The keys of a step's act, in their place between `about` and `screen`.
class ActWriter {
 public:
  explicit ActWriter(TomlWriter& out) : out_(out) {}

  void operator()(const act::Expect& one) const {
    out_.text("variable", one.variable).text_if("value", one.value);
    if (one.at_least) out_.number("at_least", *one.at_least);
    if (one.at_most) out_.number("at_most", *one.at_most);
  }
  void operator()(const act::EnterMode& one) const { out_.text("mode", mode_word(one.mode)); }
  void operator()(const act::Write& one) const {
    place(one.partition, one.slot);
    out_.text("file", one.file.file);
    if (one.pieces > 0) out_.text("piece", fmt::format("{} of {}", one.piece, one.pieces));
    content(one.file);
  }
  void operator()(const act::Start& one) const { file(one.file); }
  void operator()(const act::Drop& one) const { out_.text("partition", one.partition); }
  void operator()(const act::Create& one) const { sized(one.partition, one.size); }
  void operator()(const act::Resize& one) const { sized(one.partition, one.size); }
  void operator()(const act::ChooseSlot& one) const {
    out_.text_if("value", one.letter).text("slot", slot_word(one.slot));
  }
  void operator()(const act::CancelUpdate&) const {}
  void operator()(const act::Install& one) const { file(one.package); }
  void operator()(const act::HandOver& one) const {
    file(one.file);
    out_.text("field", one.field).texts_if("settings", one.settings);
  }
  void operator()(const act::Wipe&) const {}
  void operator()(const act::Restart&) const {}
  void operator()(const act::ByHand& one) const {
    out_.text("task", task_word(one.task));
    if (!one.partition.empty()) place(one.partition, one.slot);
    file(one.file);
  }

 private:
  void place(const std::string& partition, SlotRole slot) const {
    out_.text("partition", partition).text_if("slot", slot_word(slot));
  }
  void sized(const std::string& partition, std::uint64_t size) const {
    out_.text("partition", partition).number("size", size);
  }
  void content(const KitFile& one) const {
    if (one.size != 0) out_.number("size", one.size);
    out_.text_if("sha256", one.sha256);
  }
  void file(const KitFile& one) const {
    if (one.file.empty()) return;
    out_.text("file", one.file);
    content(one);
  }
  TomlWriter& out_;
};

void write_step(TomlWriter& out, std::string_view list, const Step& step) {
  out.entry(list).text("id", step.id).text("do", act_word(step.act)).text_if("about", step.about);
  std::visit(ActWriter(out), step.act);
  out.text_if("screen", step.screen).texts_if("notes", step.notes);
  out.text_if("before", step.before).text_if("success", step.success).text_if("undo", step.undo);
  out.flag_if("final", step.risk.final).flag("data_loss", step.risk.data_loss);
  out.number("usual_seconds", step.usual_seconds);
}

/// A table whose every key has to be asked for: one that nobody knows is a mistake, and not a step
/// that silently does less.
class Table {
 public:
  Table(const toml::table& table, const std::string& file) : table_(table), file_(file) {}

  [[nodiscard]] bool has(std::string_view key) const { return table_.contains(key); }
  Result<std::string> text(std::string_view key) {
    asked_.emplace(key);
    WEXLO_TRY(std::string value, toml_get<std::string>(table_, key, file_));
    if (value.empty()) return wrong(key, "is empty");
    return value;
  }
  Result<std::string> text_or(std::string_view key) {
    asked_.emplace(key);
    return toml_get_or<std::string>(table_, key, "", file_);
  }
  Result<std::uint64_t> number(std::string_view key) {
    asked_.emplace(key);
    WEXLO_TRY(const std::int64_t value, toml_get<std::int64_t>(table_, key, file_));
    if (value < 0) return wrong(key, "is negative");
    return static_cast<std::uint64_t>(value);
  }
  Result<std::optional<std::uint64_t>> number_if(std::string_view key) {
    if (!has(key)) return std::nullopt;
    WEXLO_TRY(const std::uint64_t value, number(key));
    return value;
  }
  Result<bool> flag(std::string_view key) {
    asked_.emplace(key);
    return toml_get_or<bool>(table_, key, false, file_);
  }
  Result<std::vector<std::string>> texts(std::string_view key) {
    asked_.emplace(key);
    std::vector<std::string> out;
    WEXLO_TRY(const toml::array* const list, toml_list(table_, key, file_));
    if (list == nullptr) return out;
    for (const toml::node& node : *list) {
      const auto value = node.value_exact<std::string>();
      if (!value) return wrong(key, "holds something else than texts");
      out.push_back(*value);
    }
    return out;
  }
  Result<std::vector<const toml::table*>> tables(std::string_view key) {
    asked_.emplace(key);
    return toml_tables(table_, key, file_);
  }
  /// Another table in it; nullptr: none.
  Result<const toml::table*> table(std::string_view key) {
    asked_.emplace(key);
    const toml::node* node = table_.get(key);
    if (node == nullptr) return nullptr;
    if (!node->is_table()) return wrong(key, "is not a table");
    return node->as_table();
  }
  [[nodiscard]] std::unexpected<Error> wrong(std::string_view key, std::string_view why) const {
    const toml::node* node = table_.get(key);
    return fail(toml_error(node == nullptr ? static_cast<const toml::node&>(table_) : *node,
                           fmt::format("{} {}", key, why), file_));
  }
  Status finish() const {
    for (const auto& [key, node] : table_)
      if (!asked_.contains(key.str())) return wrong(key.str(), "is not a key of it");
    return {};
  }

 private:
  const toml::table& table_;
  const std::string& file_;
  std::set<std::string, std::less<>> asked_;
};

Result<KitFile> read_file(Table& table, bool needed) {
  KitFile out;
  if (needed || table.has("file")) {
    WEXLO_TRY(out.file, table.text("file"));
  }
  WEXLO_TRY(const auto size, table.number_if("size"));
  out.size = size.value_or(0);
  WEXLO_TRY(out.sha256, table.text_or("sha256"));
  return out;
}

Result<SlotRole> read_slot(Table& table) {
  WEXLO_TRY(const std::string word, table.text_or("slot"));
  const auto slot = slot_of(word);
  if (!slot) return table.wrong("slot", "is neither current nor other");
  return *slot;
}

Result<Act> read_expect(Table& table) {
  act::Expect out;
  WEXLO_TRY(out.variable, table.text("variable"));
  WEXLO_TRY(out.value, table.text_or("value"));
  WEXLO_TRY(out.at_least, table.number_if("at_least"));
  WEXLO_TRY(out.at_most, table.number_if("at_most"));
  const int wanted = (out.value.empty() ? 0 : 1) + (out.at_least ? 1 : 0) + (out.at_most ? 1 : 0);
  if (wanted != 1) return table.wrong("value", "or one of at_least and at_most has to be there");
  return out;
}

Result<Act> read_mode(Table& table) {
  WEXLO_TRY(const std::string word, table.text("mode"));
  const auto mode = mode_of(word);
  if (!mode) return table.wrong("mode", "is no mode that is known");
  return act::EnterMode{*mode};
}

Result<Act> read_write(Table& table) {
  act::Write out;
  WEXLO_TRY(out.partition, table.text("partition"));
  WEXLO_TRY(out.slot, read_slot(table));
  WEXLO_TRY(out.file, read_file(table, true));
  WEXLO_TRY(const std::string piece, table.text_or("piece"));
  if (piece.empty()) return out;
  int end = 0;
  const int read = std::sscanf(piece.c_str(), "%u of %u%n", &out.piece, &out.pieces, &end);
  if (read != 2 || static_cast<std::size_t>(end) != piece.size() || out.piece == 0 ||
      out.piece > out.pieces || out.pieces > kMostPieces)
    return table.wrong("piece", "is not like \"2 of 3\"");
  return out;
}

template <class A>
Result<Act> read_sized(Table& table) {
  A out;
  WEXLO_TRY(out.partition, table.text("partition"));
  WEXLO_TRY(out.size, table.number("size"));
  return out;
}

Result<Act> read_drop(Table& table) {
  WEXLO_TRY(std::string partition, table.text("partition"));
  return act::Drop{std::move(partition)};
}

Result<Act> read_choose(Table& table) {
  act::ChooseSlot out;
  WEXLO_TRY(out.letter, table.text_or("value"));
  if (!out.letter.empty() && out.letter != "a" && out.letter != "b")
    return table.wrong("value", "is neither a nor b");
  WEXLO_TRY(out.slot, read_slot(table));
  if (out.slot == SlotRole::None) return table.wrong("slot", "has to be there");
  return out;
}

Result<Act> read_start(Table& table) {
  WEXLO_TRY(KitFile file, read_file(table, true));
  return act::Start{std::move(file)};
}

Result<Act> read_install(Table& table) {
  WEXLO_TRY(KitFile file, read_file(table, true));
  return act::Install{std::move(file)};
}

Result<Act> read_hand_over(Table& table) {
  act::HandOver out;
  WEXLO_TRY(out.file, read_file(table, false));
  WEXLO_TRY(out.field, table.text("field"));
  WEXLO_TRY(out.settings, table.texts("settings"));
  return out;
}

Result<Act> read_by_hand(Table& table) {
  act::ByHand out;
  WEXLO_TRY(const std::string word, table.text("task"));
  const auto task = task_of(word);
  if (!task) return table.wrong("task", "is no task that is known");
  out.task = *task;
  WEXLO_TRY(out.partition, table.text_or("partition"));
  WEXLO_TRY(out.slot, read_slot(table));
  WEXLO_TRY(out.file, read_file(table, false));
  return out;
}

Result<Act> read_act(Table& table) {
  using Reader = Result<Act> (*)(Table&);
  // In the order of the variant.
  static constexpr Reader kReaders[std::variant_size_v<Act>] = {
      read_expect,
      read_mode,
      read_write,
      read_start,
      read_drop,
      read_sized<act::Create>,
      read_sized<act::Resize>,
      read_choose,
      [](Table&) { return Result<Act>(act::CancelUpdate{}); },
      read_install,
      read_hand_over,
      [](Table&) { return Result<Act>(act::Wipe{}); },
      [](Table&) { return Result<Act>(act::Restart{}); },
      read_by_hand};
  WEXLO_TRY(const std::string word, table.text("do"));
  const auto index = act_of(word);
  if (!index) return table.wrong("do", "is no act that is known");
  return kReaders[*index](table);
}

Result<Step> read_step(const toml::table& row, const std::string& file) {
  Table table(row, file);
  Step out;
  WEXLO_TRY(out.id, table.text("id"));
  WEXLO_TRY(out.act, read_act(table));
  WEXLO_TRY(out.about, table.text_or("about"));
  WEXLO_TRY(out.before, table.text_or("before"));
  WEXLO_TRY(out.success, table.text_or("success"));
  WEXLO_TRY(out.screen, table.text_or("screen"));
  WEXLO_TRY(out.notes, table.texts("notes"));
  WEXLO_TRY(out.undo, table.text_or("undo"));
  WEXLO_TRY(out.risk.data_loss, table.flag("data_loss"));
  WEXLO_TRY(out.risk.final, table.flag("final"));
  WEXLO_TRY(const std::uint64_t seconds, table.number("usual_seconds"));
  constexpr std::uint64_t kMost = 7 * 24 * 3600;
  if (seconds == 0 || seconds > kMost) return table.wrong("usual_seconds", "is no usual time");
  out.usual_seconds = static_cast<unsigned>(seconds);
  WEXLO_CHECK(table.finish());
  return out;
}

/// A step's name once in its direction: others lead to it. Modes are entered again and again.
Status check_ids(const std::vector<const toml::table*>& rows, const std::vector<Step>& steps,
                 const std::string& file) {
  std::set<std::string> seen;
  for (std::size_t i = 0; i < steps.size(); ++i)
    if (!seen.insert(steps[i].id).second && !steps[i].is<act::EnterMode>())
      return Table(*rows[i], file).wrong("id", "is that of another step");
  return {};
}

Status check_undo(const std::vector<const toml::table*>& rows, const Plan& plan,
                  const std::string& file) {
  for (std::size_t i = 0; i < plan.steps.size(); ++i) {
    const Step& step = plan.steps[i];
    // What a person takes back is said in words.
    if (step.undo.empty() || step.is<act::ByHand>()) continue;
    if (std::ranges::find(plan.back, step.undo, &Step::id) == plan.back.end())
      return Table(*rows[i], file).wrong("undo", "names a step back that is not there");
  }
  return {};
}

Status read_verification(const toml::table* row, Plan& plan, const std::string& file) {
  if (row == nullptr) return {};
  Table table(*row, file);
  WEXLO_TRY(const std::string word, table.text("needs"));
  const auto needs = needs_of(word);
  if (!needs) return table.wrong("needs", "is neither unlocked nor own-key");
  plan.needs = *needs;
  WEXLO_TRY(plan.needs_why, table.text_or("why"));
  WEXLO_TRY(plan.key_file, table.text_or("key_file"));
  WEXLO_TRY(plan.key_sha256, table.text_or("key_sha256"));
  return table.finish();
}

Result<std::vector<Step>> read_steps(const std::vector<const toml::table*>& rows,
                                     const std::string& file) {
  std::vector<Step> out;
  for (const toml::table* row : rows) {
    WEXLO_TRY(Step step, read_step(*row, file));
    out.push_back(std::move(step));
  }
  WEXLO_CHECK(check_ids(rows, out, file));
  return out;
}

}  // namespace

std::string format_plan(const Plan& plan) {
  TomlWriter out;
  out.comment("The steps of the flash, in order, and the way back.").number("format", kFormat);
  out.text_if("device", plan.device).text_if("build", plan.build);
  out.texts_if("first", plan.first).texts_if("back_first", plan.back_first);
  if (plan.needs != Needs::Unknown) {
    out.table("verification").text("needs", needs_word(plan.needs));
    out.text_if("why", plan.needs_why).text_if("key_file", plan.key_file);
    out.text_if("key_sha256", plan.key_sha256);
  }
  for (const Step& step : plan.steps)
    write_step(out, "step", step);
  for (const Step& step : plan.back)
    write_step(out, "back", step);
  return out.str();
}

Result<Plan> read_plan(std::string_view text, const std::string& file) {
  WEXLO_TRY(const toml::table top, parse_toml(text, file));
  Table table(top, file);
  WEXLO_TRY(const std::uint64_t format, table.number("format"));
  if (format != kFormat)
    return fail({.code = ErrorCode::Unsupported,
                 .message = "a plan of another format version",
                 .file = file,
                 .expected = fmt::format("{}", kFormat),
                 .found = fmt::format("{}", format),
                 .hint = "Make the kit anew with this version, or use the version that made it."});
  Plan out;
  WEXLO_TRY(out.device, table.text_or("device"));
  WEXLO_TRY(out.build, table.text_or("build"));
  WEXLO_TRY(out.first, table.texts("first"));
  WEXLO_TRY(out.back_first, table.texts("back_first"));
  WEXLO_TRY(const toml::table* const verification, table.table("verification"));
  WEXLO_CHECK(read_verification(verification, out, file));
  WEXLO_TRY(const auto steps, table.tables("step"));
  WEXLO_TRY(const auto back, table.tables("back"));
  WEXLO_CHECK(table.finish());
  WEXLO_TRY(out.steps, read_steps(steps, file));
  WEXLO_TRY(out.back, read_steps(back, file));
  WEXLO_CHECK(check_undo(steps, out, file));
  return out;
}

}  // namespace wexlo
