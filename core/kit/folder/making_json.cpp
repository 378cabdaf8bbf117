#include "kit/folder/making_json.hpp"

namespace wexlo {
namespace {

Json shells_json(const std::vector<Layer>& shells) {
  Json out = Json::array();
  for (const Layer& one : shells)
    out.push_back({{"kind", one.kind}, {"detail", one.detail}});
  return out;
}

Json package_json(const KitPackage& package) {
  return {{"shells", shells_json(package.shells)}, {"field", package.tar_field},
          {"download", package.signs.download},    {"bootloader", package.signs.bootloader},
          {"keeping", package.settings.keeping},   {"wiping", package.settings.wiping}};
}

Json older_json(const OlderKit& older) {
  return {{"device", older.device},
          {"build", older.build},
          {"stock", older.stock},
          {"chain", chain_json(older.chain)}};
}

Json given_json(const KitGiven& given) {
  return {{"partition", given.partition}, {"name", given.name},
          {"file", given.file},           {"size", given.size},
          {"build", given.build},         {"patch_level", given.patch_level},
          {"device", given.device}};
}

Status read_package(const JsonValue& made, KitPackage& out) {
  WEXLO_TRY(const JsonValue row, made.object("package"));
  WEXLO_TRY(const auto shells, row.objects("shells"));
  for (const JsonValue& one : shells) {
    Layer shell;
    WEXLO_TRY(shell.kind, one.text("kind"));
    WEXLO_TRY(shell.detail, one.text_or("detail", ""));
    out.shells.push_back(std::move(shell));
  }
  WEXLO_TRY(out.tar_field, row.text_or("field", ""));
  WEXLO_TRY(out.signs.download, row.text_or("download", ""));
  WEXLO_TRY(out.signs.bootloader, row.text_or("bootloader", ""));
  WEXLO_TRY(out.settings.keeping, row.text_or("keeping", ""));
  WEXLO_TRY(out.settings.wiping, row.text_or("wiping", ""));
  return {};
}

Status read_older(const JsonValue& made, OlderKit& out) {
  WEXLO_TRY(const auto row, made.object_if("older"));
  if (!row) return {};
  WEXLO_TRY(out.device, row->text_or("device", ""));
  WEXLO_TRY(out.build, row->text_or("build", ""));
  WEXLO_TRY(const auto stock, row->text_members("stock"));
  out.stock.insert(stock.begin(), stock.end());
  WEXLO_TRY(out.chain, read_chain(*row));
  return {};
}

Result<KitGiven> read_given(const JsonValue& row) {
  KitGiven out;
  WEXLO_TRY(out.partition, row.text_or("partition", ""));
  WEXLO_TRY(out.name, row.text("name"));
  WEXLO_TRY(out.file, row.text_or("file", ""));
  WEXLO_TRY(out.size, row.number("size"));
  WEXLO_TRY(out.build, row.text_or("build", ""));
  WEXLO_TRY(out.patch_level, row.text_or("patch_level", ""));
  WEXLO_TRY(out.device, row.text_or("device", ""));
  return out;
}

}  // namespace

Json chain_json(const std::vector<ImageFacts>& chain) {
  Json out = Json::array();
  for (const ImageFacts& facts : chain)
    out.push_back({{"partition", facts.partition},
                   {"kernel", facts.kernel},
                   {"cmdline", facts.cmdline},
                   {"init", facts.init},
                   {"fstabs", facts.fstabs},
                   {"left", facts.left_known ? Json(facts.left) : Json()}});
  return out;
}

Result<std::vector<ImageFacts>> read_chain(const JsonValue& top) {
  std::vector<ImageFacts> out;
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
    out.push_back(std::move(facts));
  }
  return out;
}

Json making_json(const KitMaking& making) {
  Json given = Json::array();
  for (const KitGiven& one : making.given)
    given.push_back(given_json(one));
  const bool alone = making.older.device.empty() && making.older.build.empty() &&
                     making.older.stock.empty() && making.older.chain.empty();
  return {{"by", making.version},
          {"package", package_json(making.package)},
          {"rehearsed", making.rehearsed},
          {"whole", making.whole},
          {"onto_foreign", making.onto_foreign},
          {"key_sha256", making.key_sha256},
          {"put_back", making.put_back},
          {"older", alone ? Json() : older_json(making.older)},
          {"given", std::move(given)}};
}

Status read_making(const JsonValue& top, KitMaking& out) {
  WEXLO_TRY(const auto made, top.object_if("made"));
  if (!made) return {};
  WEXLO_TRY(out.version, made->text("by"));
  WEXLO_CHECK(read_package(*made, out.package));
  WEXLO_TRY(out.rehearsed, made->flag_or("rehearsed", true));
  WEXLO_TRY(out.whole, made->flag_or("whole", false));
  WEXLO_TRY(out.onto_foreign, made->flag_or("onto_foreign", false));
  WEXLO_TRY(out.key_sha256, made->text_or("key_sha256", ""));
  WEXLO_TRY(out.put_back, made->texts("put_back"));
  WEXLO_CHECK(read_older(*made, out.older));
  WEXLO_TRY(const auto given, made->objects("given"));
  for (const JsonValue& row : given) {
    WEXLO_TRY(KitGiven one, read_given(row));
    out.given.push_back(std::move(one));
  }
  return {};
}

}  // namespace wexlo
