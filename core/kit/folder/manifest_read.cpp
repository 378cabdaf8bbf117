/// Reading kit.json: what is of another type or missing is an error that names its place.

#include "base/source.hpp"
#include "kit/folder/making_json.hpp"
#include "kit/folder/manifest.hpp"
#include "text/json_read.hpp"

namespace wexlo {
namespace {

/// Documents of version 1 list large images that were given apart from the others.
constexpr std::uint64_t kFormat = 2, kOldest = 1;

/// The value of an enum by its word. @param last  its last enumerator
template <class E, class Word>
Result<E> word(const JsonValue& row, std::string_view key, E fallback, E last, Word word_of) {
  WEXLO_TRY(const std::string text, row.text_or(key, std::string(word_of(fallback))));
  for (int i = 0; i <= static_cast<int>(last); ++i)
    if (word_of(static_cast<E>(i)) == text) return static_cast<E>(i);
  return row.wrong(key, "it is no word that is known there");
}

/// A row that names a file. A file of the kit has its digest; the size may be left out.
Result<KitFile> read_file(const JsonValue& row) {
  KitFile out;
  WEXLO_TRY(out.file, row.text_or("file", ""));
  WEXLO_TRY(const auto size, row.number_if("size"));
  out.size = size.value_or(0);
  WEXLO_TRY(out.sha256, row.text_or("sha256", ""));
  if (!out.file.empty() && out.sha256.empty())
    return row.wrong("sha256", "a file of the kit has no digest");
  return out;
}

Result<std::vector<KitFile>> read_files(const JsonValue& row, std::string_view key) {
  std::vector<KitFile> out;
  WEXLO_TRY(const auto rows, row.objects(key));
  for (const JsonValue& one : rows) {
    WEXLO_TRY(KitFile file, read_file(one));
    out.push_back(std::move(file));
  }
  return out;
}

Result<KitContent> read_content(const JsonValue& row, std::string_view key,
                                std::string_view pieces) {
  KitContent out;
  WEXLO_TRY(const auto whole, row.object_if(key));
  if (whole) {
    WEXLO_TRY(const KitFile file, read_file(*whole));
    out.file = file.file;
    out.size = file.size;
    out.sha256 = file.sha256;
  }
  WEXLO_TRY(out.pieces, read_files(row, pieces));
  return out;
}

Result<EditReport> read_edit(const JsonValue& row) {
  EditReport out;
  WEXLO_TRY(out.recipe, row.text_or("recipe", ""));
  WEXLO_TRY(out.kind, row.text_or("kind", ""));
  WEXLO_TRY(out.summary, row.text_or("summary", ""));
  WEXLO_TRY(out.outcome, word(row, "outcome", Outcome::Applied, Outcome::Skipped, outcome_name));
  WEXLO_TRY(out.why, row.text_or("why", ""));
  WEXLO_TRY(out.details, row.texts("details"));
  WEXLO_TRY(const auto effects, row.objects("effects"));
  for (const JsonValue& one : effects) {
    Effect effect;
    WEXLO_TRY(effect.where, one.text_or("where", ""));
    WEXLO_TRY(effect.before, one.text_or("before", ""));
    WEXLO_TRY(effect.after, one.text_or("after", ""));
    WEXLO_TRY(effect.diff, one.texts("diff"));
    out.effects.push_back(std::move(effect));
  }
  return out;
}

/// What was done to an image.
Status read_account(const JsonValue& row, Patched& out) {
  WEXLO_TRY(const auto edits, row.objects("edits"));
  for (const JsonValue& one : edits) {
    WEXLO_TRY(EditReport edit, read_edit(one));
    out.edits.push_back(std::move(edit));
  }
  WEXLO_TRY(out.entries, row.texts("entries"));
  WEXLO_TRY(const auto ranges, row.objects("ranges"));
  for (const JsonValue& one : ranges) {
    ChangedRange range;
    WEXLO_TRY(const auto offset, one.number_if("offset"));
    WEXLO_TRY(const auto size, one.number_if("size"));
    range.offset = offset.value_or(0);
    range.size = size.value_or(0);
    WEXLO_TRY(range.region, one.text_or("region", ""));
    WEXLO_TRY(range.cause, one.text_or("cause", ""));
    out.ranges.push_back(std::move(range));
  }
  WEXLO_TRY(const auto way_back, row.object_if("way_back"));
  if (!way_back) return {};
  WEXLO_TRY(out.way_back.in_image, way_back->flag_or("in_image", false));
  WEXLO_TRY(out.way_back.reason, way_back->text_or("reason", ""));
  return {};
}

Result<KitImage> read_image(const JsonValue& row, Made usual) {
  KitImage out;
  WEXLO_TRY(out.partition, row.text("partition"));
  WEXLO_TRY(out.made, word(row, "what", usual, Made::Stock, made_word));
  WEXLO_TRY(out.logical, row.text_or("logical", ""));
  Given given{.partition = out.partition};
  WEXLO_TRY(given.kind, row.text_or("kind", ""));
  WEXLO_TRY(given.build.fingerprint, row.text_or("build", ""));
  if (row.has("kind")) out.given = std::move(given);
  WEXLO_TRY(out.flash, read_content(row, "flash", "pieces"));
  WEXLO_TRY(out.stock_files, read_content(row, "stock", "stock_pieces"));
  WEXLO_CHECK(read_account(row, out.patched));
  return out;
}

Status read_images(const JsonValue& top, std::string_view key, Made usual, KitImages& out) {
  WEXLO_TRY(const auto rows, top.objects(key));
  for (const JsonValue& row : rows) {
    WEXLO_TRY(KitImage image, read_image(row, usual));
    out.push_back(std::move(image));
  }
  return {};
}

Status read_verdict(const JsonValue& top, KitManifest& out) {
  WEXLO_TRY(const auto row, top.object_if("verification"));
  if (!row) return {};
  using verified::Outlook;
  WEXLO_TRY(out.verdict.needs, word(*row, "needs", Needs::Unknown, Needs::OwnKey, needs_word));
  WEXLO_TRY(out.verdict.why, row->text_or("why", ""));
  for (const auto& [key, outlook] :
       {std::pair{"locked", &out.verdict.locked}, std::pair{"unlocked", &out.verdict.unlocked}}) {
    WEXLO_TRY(*outlook,
              word(*row, key, Outlook::CannotTell, Outlook::CannotTell, verified::outlook_name));
  }
  WEXLO_TRY(const auto key, row->object_if("key"));
  if (!key) return {};
  WEXLO_TRY(out.key, read_file(*key));
  out.verdict.key_sha256 = out.key.sha256;
  return {};
}

Result<KitRecipe> read_recipe_row(const JsonValue& row) {
  KitRecipe out;
  WEXLO_TRY(out.name, row.text_or("name", ""));
  WEXLO_TRY(const KitFile text, read_file(row));
  if (text.file.empty()) return row.wrong("file", "the recipe's text is missing");
  out.file = text.file;
  out.sha256 = text.sha256;
  WEXLO_TRY(const auto given, row.text_members("given"));
  out.given.insert(given.begin(), given.end());
  WEXLO_TRY(const auto files, row.objects("files"));
  for (const JsonValue& one : files) {
    WEXLO_TRY(const KitFile content, read_file(one));
    WEXLO_TRY(std::string spelled, one.text("spelled"));
    WEXLO_TRY(std::string path, one.text_or("path", ""));
    if (content.file.empty()) return one.wrong("file", "the file's name is missing");
    WEXLO_TRY(std::string named, one.text_or("named", ""));
    out.files.push_back(
        {std::move(spelled), std::move(path), content.file, content.sha256, std::move(named)});
  }
  return out;
}

Status read_recipes(const JsonValue& top, KitManifest& out) {
  if (!top.has("recipes")) return {};
  WEXLO_TRY(const auto rows, top.objects("recipes"));
  out.recipes.emplace();
  for (const JsonValue& row : rows) {
    WEXLO_TRY(KitRecipe one, read_recipe_row(row));
    out.recipes->push_back(std::move(one));
  }
  return {};
}

Status read_settings(const JsonValue& top, KitSettings& out) {
  WEXLO_TRY(const auto row, top.object_if("settings"));
  if (!row) return {};
  WEXLO_TRY(const std::string slots, row->text_or("slots", "auto"));
  if (slots == "both") out.slots = Slots::Both;
  if (slots == "current") out.slots = Slots::Current;
  WEXLO_TRY(out.wipe, row->flag_or("wipe", false));
  WEXLO_TRY(const std::string arch, row->text_or("arch", ""));
  if (!arch.empty()) out.told["arch"] = arch;
  if (row->has("told")) {
    WEXLO_TRY(const auto told, row->text_members("told"));
    out.told.insert(told.begin(), told.end());
  }
  WEXLO_TRY(out.accepted, row->texts("accepted"));
  WEXLO_TRY(out.technician, row->text_or("technician", ""));
  return {};
}

Result<RoomPlan> read_room(const JsonValue& row) {
  RoomPlan out;
  WEXLO_TRY(const auto steps, row.objects("steps"));
  for (const JsonValue& one : steps) {
    RoomStep step;
    WEXLO_TRY(step.act, word(one, "do", RoomAct::Drop, RoomAct::Resize, room_act_word));
    WEXLO_TRY(step.partition, one.text("partition"));
    WEXLO_TRY(step.before, one.number("before"));
    WEXLO_TRY(step.after, one.number("after"));
    out.steps.push_back(std::move(step));
  }
  return out;
}

Status read_super(const JsonValue& top, KitManifest& manifest) {
  WEXLO_TRY(const auto row, top.object_if("super"));
  if (!row) return {};
  SuperFacts& out = manifest.super.emplace().before;
  WEXLO_TRY(out.size, row->number("size"));
  WEXLO_TRY(const auto partitions, row->objects("partitions"));
  for (const JsonValue& one : partitions) {
    LogicalPartition logical;
    WEXLO_TRY(logical.name, one.text("name"));
    WEXLO_TRY(logical.size, one.number("size"));
    WEXLO_TRY(logical.group, one.text_or("group", ""));
    out.partitions.push_back(std::move(logical));
  }
  WEXLO_TRY(const auto groups, row->objects("groups"));
  for (const JsonValue& one : groups) {
    LogicalGroup group;
    WEXLO_TRY(group.name, one.text("name"));
    WEXLO_TRY(group.size, one.number("size"));
    out.groups.push_back(std::move(group));
  }
  WEXLO_TRY(RoomPlan room, read_room(*row));
  manifest.super->rooms.push_back(std::move(room));
  return {};
}

Status read_heading(const JsonValue& top, KitManifest& out) {
  WEXLO_TRY(out.device, top.text_or("device", ""));
  WEXLO_TRY(out.build, top.text_or("build", ""));
  WEXLO_TRY(out.patch_level, top.text_or("patch_level", ""));
  WEXLO_TRY(out.firmware, top.text_or("firmware", ""));
  WEXLO_TRY(out.purpose, word(top, "purpose", Purpose::Patch, Purpose::Restore, purpose_word));
  WEXLO_TRY(out.way, word(top, "way", Way::Bootloader, Way::Download, way_word));
  WEXLO_TRY(const auto slots, top.number_if("slots"));
  if (slots) out.slotted = *slots == 2;
  WEXLO_TRY(out.target.partition, top.text_or("target", ""));
  WEXLO_TRY(out.target.reason, top.text_or("reason", ""));
  WEXLO_TRY(out.target.layout,
            word(top, "layout", RamdiskLayout::None, RamdiskLayout::Recovery, layout_name));
  return {};
}

Result<KitManifest> read_top(const JsonValue& top, const std::string& file) {
  WEXLO_TRY(const std::uint64_t format, top.number("format"));
  WEXLO_CHECK(check_format(top, file, "a kit", format == kOldest ? kOldest : kFormat));
  KitManifest out;
  WEXLO_CHECK(read_heading(top, out));
  if (format == kOldest) WEXLO_CHECK(read_images(top, "given", Made::Given, out.images));
  WEXLO_CHECK(read_images(top, "images", Made::Patched, out.images));
  WEXLO_CHECK(read_verdict(top, out));
  WEXLO_CHECK(read_recipes(top, out));
  WEXLO_CHECK(read_settings(top, out.settings));
  WEXLO_TRY(out.chain, read_chain(top));
  WEXLO_CHECK(read_making(top, out.making));
  WEXLO_CHECK(read_super(top, out));
  WEXLO_TRY(const auto plan, top.object_if("plan"));
  if (plan) {
    WEXLO_TRY(out.plan, read_file(*plan));
  }
  WEXLO_TRY(out.files, read_files(top, "files"));
  return out;
}

}  // namespace

Result<KitManifest> parse_manifest(std::string_view text, const std::string& file) {
  WEXLO_TRY(const JsonValue top, parse_json(text, file));
  return read_top(top, file);
}

Result<KitManifest> read_manifest(const std::filesystem::path& kit) {
  const std::filesystem::path file = kit / kKitManifest;
  WEXLO_TRY(const JsonValue top, read_json(file));
  return read_top(top, file.string());
}

}  // namespace wexlo
