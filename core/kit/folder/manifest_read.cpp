#include "kit/folder/manifest_read.hpp"

#include <fmt/format.h>

#include "firmware/extract.hpp"
#include "kit/folder/kit_folder.hpp"
#include "text/json_read.hpp"

namespace wexlo {
namespace {

constexpr std::uint64_t kFormat = 1;

class KitReader {
 public:
  explicit KitReader(std::string file) : file_(std::move(file)) {}

  Result<KitManifest> run(const JsonValue& top) {
    WEXLO_CHECK(check_format(top, file_, "a kit", kFormat));
    WEXLO_TRY(out_.device, top.text_or("device", ""));
    WEXLO_TRY(out_.build, top.text_or("build", ""));
    WEXLO_TRY(out_.target, top.text_or("target", ""));
    for (const char* key : {"patch_level", "firmware", "purpose", "way", "reason", "layout"})
      WEXLO_CHECK(top.text_or(key, ""));
    WEXLO_CHECK(top.number_if("slots"));
    WEXLO_CHECK(images(top, "images", out_.images));
    WEXLO_CHECK(images(top, "given", out_.given));
    WEXLO_CHECK(verification(top));
    WEXLO_CHECK(recipes(top));
    WEXLO_CHECK(settings(top));
    WEXLO_CHECK(chain(top));
    WEXLO_CHECK(super(top));
    WEXLO_CHECK(member(top, "plan"));
    WEXLO_TRY(const auto rows, top.objects("files"));
    for (const JsonValue& row : rows)
      WEXLO_CHECK(take(row));
    return std::move(out_);
  }

 private:
  /// A row that names a file. A file of the kit has its digest; the size may be left out.
  Result<std::optional<KitFile>> take(const JsonValue& row) {
    KitFile one;
    WEXLO_TRY(one.name, row.text_or("file", ""));
    WEXLO_TRY(one.size, row.number_if("size"));
    WEXLO_TRY(one.sha256, row.text_or("sha256", ""));
    if (one.name.empty()) return std::nullopt;
    if (one.sha256.empty()) return row.wrong("sha256", "a file of the kit has no digest");
    out_.files.push_back(one);
    return one;
  }

  Result<std::optional<KitFile>> member(const JsonValue& row, std::string_view key) {
    WEXLO_TRY(const auto found, row.object_if(key));
    if (!found) return std::nullopt;
    return take(*found);
  }

  Status images(const JsonValue& top, std::string_view key, std::vector<KitImage>& out) {
    WEXLO_TRY(const auto rows, top.objects(key));
    for (const JsonValue& row : rows) {
      KitImage one;
      WEXLO_TRY(one.partition, row.text("partition"));
      WEXLO_TRY(one.what, row.text_or("what", "given"));
      for (const char* word : {"logical", "kind", "build"})
        WEXLO_CHECK(row.text_or(word, ""));
      WEXLO_TRY(one.flash, member(row, "flash"));
      WEXLO_TRY(one.stock, member(row, "stock"));
      for (const char* list : {"pieces", "stock_pieces"}) {
        WEXLO_TRY(const auto pieces, row.objects(list));
        for (const JsonValue& piece : pieces)
          WEXLO_CHECK(take(piece));
      }
      WEXLO_CHECK(edits(row));
      out.push_back(std::move(one));
    }
    return {};
  }

  /// What was done to an image: nothing works with it, but a document half of which is something
  /// else is not one that Wexlo wrote.
  static Status edits(const JsonValue& row) {
    WEXLO_TRY(const auto rows, row.objects("edits"));
    for (const JsonValue& one : rows) {
      for (const char* key : {"recipe", "kind", "summary", "outcome", "why"})
        WEXLO_CHECK(one.text_or(key, ""));
      WEXLO_CHECK(one.texts("details"));
      WEXLO_TRY(const auto effects, one.objects("effects"));
      for (const JsonValue& effect : effects) {
        for (const char* key : {"where", "before", "after"})
          WEXLO_CHECK(effect.text_or(key, ""));
        WEXLO_CHECK(effect.texts("diff"));
      }
    }
    WEXLO_CHECK(row.texts("entries"));
    WEXLO_TRY(const auto ranges, row.objects("ranges"));
    for (const JsonValue& one : ranges) {
      WEXLO_CHECK(one.number_if("offset"));
      WEXLO_CHECK(one.number_if("size"));
      WEXLO_CHECK(one.text_or("region", ""));
      WEXLO_CHECK(one.text_or("cause", ""));
    }
    WEXLO_TRY(const auto way_back, row.object_if("way_back"));
    if (!way_back) return {};
    WEXLO_CHECK(way_back->flag_or("in_image", false));
    WEXLO_CHECK(way_back->text_or("reason", ""));
    return {};
  }

  Status verification(const JsonValue& top) {
    WEXLO_TRY(const auto row, top.object_if("verification"));
    if (!row) return {};
    WEXLO_TRY(out_.needs, row->text_or("needs", ""));
    for (const char* key : {"why", "locked", "unlocked"})
      WEXLO_CHECK(row->text_or(key, ""));
    WEXLO_CHECK(member(*row, "key"));
    return {};
  }

  Status recipes(const JsonValue& top) {
    if (!top.has("recipes")) return {};
    WEXLO_TRY(const auto rows, top.objects("recipes"));
    out_.recipes.emplace();
    for (const JsonValue& row : rows) {
      KitRecipe one;
      WEXLO_TRY(one.name, row.text_or("name", ""));
      WEXLO_TRY(const auto text, take(row));
      if (!text) return row.wrong("file", "the recipe's text is missing");
      one.file = text->name;
      one.sha256 = text->sha256;
      WEXLO_TRY(const auto given, row.text_members("given"));
      one.given.insert(given.begin(), given.end());
      WEXLO_TRY(const auto files, row.objects("files"));
      for (const JsonValue& file : files) {
        WEXLO_TRY(const auto content, take(file));
        WEXLO_TRY(std::string spelled, file.text("spelled"));
        WEXLO_TRY(std::string path, file.text_or("path", ""));
        if (!content) return file.wrong("file", "the file's name is missing");
        one.files.push_back({std::move(spelled), std::move(path), content->name, content->sha256});
      }
      out_.recipes->push_back(std::move(one));
    }
    return {};
  }

  Status settings(const JsonValue& top) {
    WEXLO_TRY(const auto row, top.object_if("settings"));
    if (!row) return {};
    WEXLO_TRY(out_.slots, row->text_or("slots", ""));
    WEXLO_TRY(out_.wipe, row->flag_or("wipe", false));
    WEXLO_TRY(out_.architecture, row->text_or("arch", ""));
    WEXLO_CHECK(row->texts("accepted"));
    return {};
  }

  Status chain(const JsonValue& top) {
    WEXLO_TRY(const auto rows, top.objects("chain"));
    for (const JsonValue& row : rows) {
      ImageFacts facts;
      WEXLO_TRY(facts.partition, row.text("partition"));
      WEXLO_TRY(facts.kernel, row.text_or("kernel", ""));
      WEXLO_TRY(facts.cmdline, row.text_or("cmdline", ""));
      WEXLO_TRY(facts.init, row.text_or("init", ""));
      WEXLO_TRY(const auto fstabs, row.text_members("fstabs"));
      facts.fstabs.insert(fstabs.begin(), fstabs.end());
      WEXLO_TRY(const auto left, row.number_if("left"));
      facts.left_known = left.has_value();
      facts.left = left.value_or(0);
      out_.chain.push_back(std::move(facts));
    }
    return {};
  }

  Status super(const JsonValue& top) {
    WEXLO_TRY(const auto row, top.object_if("super"));
    if (!row) return {};
    KitSuper& out = out_.super.emplace();
    WEXLO_TRY(out.before.size, row->number("size"));
    WEXLO_TRY(const auto partitions, row->objects("partitions"));
    for (const JsonValue& one : partitions) {
      LogicalPartition logical;
      WEXLO_TRY(logical.name, one.text("name"));
      WEXLO_TRY(logical.size, one.number("size"));
      WEXLO_TRY(logical.group, one.text_or("group", ""));
      out.before.partitions.push_back(std::move(logical));
    }
    WEXLO_TRY(const auto groups, row->objects("groups"));
    for (const JsonValue& one : groups) {
      LogicalGroup group;
      WEXLO_TRY(group.name, one.text("name"));
      WEXLO_TRY(group.size, one.number("size"));
      out.before.groups.push_back(std::move(group));
    }
    RoomPlan room;
    WEXLO_TRY(const auto steps, row->objects("steps"));
    for (const JsonValue& one : steps) {
      RoomStep step;
      WEXLO_TRY(step.act, one.text("do"));
      WEXLO_TRY(step.partition, one.text("partition"));
      WEXLO_TRY(step.before, one.number("before"));
      WEXLO_TRY(step.after, one.number("after"));
      room.steps.push_back(std::move(step));
    }
    out.rooms.push_back(std::move(room));
    return {};
  }

  std::string file_;
  KitManifest out_;
};

}  // namespace

Result<KitManifest> read_kit_manifest(const std::filesystem::path& kit) {
  const std::filesystem::path file = kit / kKitManifest;
  WEXLO_TRY(const JsonValue top, read_json(file));
  return KitReader(file.string()).run(top);
}

}  // namespace wexlo
