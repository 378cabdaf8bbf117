#include "inspect.hpp"

#include "chain.hpp"

namespace wexlo::cli {
namespace {

Json optional_text(const std::string& text) {
  return text.empty() ? Json() : Json(text);
}

Json vbmeta_json(const VbmetaInfo& info) {
  Json descriptors = Json::array();
  for (const DescriptorInfo& descriptor : info.descriptors) {
    Json row = {{"kind", descriptor.kind}};
    if (!descriptor.partition.empty()) row["partition"] = descriptor.partition;
    for (const auto& [name, value] : descriptor.values)
      row[name] = value;
    descriptors.push_back(std::move(row));
  }
  return {{"algorithm", info.algorithm},
          {"public_key_sha256", optional_text(info.public_key_sha256)},
          {"rollback_index", info.rollback_index},
          {"flags", info.flags},
          {"flag_names", info.flag_names},
          {"hash_matches", info.hash_matches ? Json(*info.hash_matches) : Json()},
          {"release", info.release},
          {"descriptors", descriptors}};
}

Json footer_json(const FooterInfo& footer) {
  return {{"original_image_size", footer.original_image_size},
          {"vbmeta_offset", footer.vbmeta_offset},
          {"vbmeta_size", footer.vbmeta_size},
          {"digest_matches", footer.digest_matches ? Json(*footer.digest_matches) : Json()},
          {"vbmeta", vbmeta_json(footer.vbmeta)}};
}

Json kernel_json(const kernel::Kernel& kernel) {
  return {{"form", kernel.form},
          {"architecture", optional_text(kernel.architecture)},
          {"compression", kernel.compression},
          {"release", optional_text(kernel.release)},
          {"banner", optional_text(kernel.banner)},
          {"wrapping", optional_text(kernel.wrapping)},
          {"decoded_size", kernel.decoded_size},
          {"page_size", kernel.page_size == 0 ? Json() : Json(kernel.page_size)},
          {"config_size", kernel.config.size()},
          {"trees_offset", kernel.trees.empty() ? Json() : Json(kernel.trees_at)},
          {"trouble", optional_text(kernel.trouble)}};
}

Json ramdisks_json(const std::vector<RamdiskInfo>& ramdisks) {
  Json out = Json::array();
  for (const RamdiskInfo& one : ramdisks) {
    Json row = {{"title", one.title},
                {"name", one.name},
                {"type", optional_text(one.type)},
                {"board_id", optional_text(one.board_id)},
                {"offset", one.offset},
                {"size", one.size},
                {"decoded_size", one.decoded_size},
                {"entries", one.entries},
                {"compression", one.compression},
                {"part_header", optional_text(one.header)},
                {"trouble", optional_text(one.trouble)}};
    if (!one.encoders.empty()) {
      row["encoder"] = one.encoders;
      row["encoder_proof"] = one.proofs;
    }
    out.push_back(std::move(row));
  }
  return out;
}

Json trees_json(const std::vector<TreeInfo>& trees) {
  Json out = Json::array();
  for (const TreeInfo& tree : trees)
    out.push_back({{"part", tree.part},
                   {"offset", tree.offset},
                   {"size", tree.size},
                   {"model", optional_text(tree.model)},
                   {"compatible", tree.compatible},
                   {"overlay", tree.overlay},
                   {"compression", tree.compression},
                   {"entries", tree.entries}});
  return out;
}

Json starts_json(const Starts& starts) {
  const auto side = [](const std::vector<StartPart>& parts) {
    Json out = Json::array();
    for (const StartPart& part : parts)
      out.push_back({{"partition", part.partition},
                     {"name", part.name},
                     {"type", part.type},
                     {"compression", optional_text(part.compression)}});
    return out;
  };
  Json problems = Json::array();
  for (const StartProblem& one : starts.problems)
    problems.push_back(one.text);
  return {{"normal", side(starts.normal)},
          {"recovery", side(starts.recovery)},
          {"problems", std::move(problems)}};
}

Json image_json(const ImageInfo& info) {
  Json parts = Json::array();
  for (const PartInfo& part : info.parts)
    parts.push_back({{"name", part.name},
                     {"offset", part.offset},
                     {"size", part.size},
                     {"compression", part.compression},
                     {"sha256", part.sha256},
                     {"detail", part.detail}});
  Json out = {{"header_version", info.header_version},
              {"page_size", info.page_size},
              {"os_version", optional_text(info.os_version)},
              {"patch_level", optional_text(info.patch_level)},
              {"cmdline", info.cmdline},
              {"parts", parts},
              {"tail_size", info.tail_size},
              {"layout", info.layout},
              {"name", optional_text(info.name)},
              {"origin", origin_word(info.origin.word)},
              {"origin_reason", info.origin.reason},
              {"journal", info.journal}};
  out["signs"] = Json::array();
  for (const Sign& sign : info.origin.signs)
    out["signs"].push_back({{"kind", sign_name(sign.kind)}, {"text", sign.text}});
  out["id_matches"] = info.id_matches ? Json(*info.id_matches) : Json();
  out["ramdisks"] = ramdisks_json(info.ramdisks);
  if (info.kernel) out["kernel"] = kernel_json(*info.kernel);
  out["device_trees"] = trees_json(info.trees);
  if (!info.starts.empty()) out["starts"] = starts_json(info.starts);
  if (!info.bootconfig.empty()) out["bootconfig"] = info.bootconfig;
  out["selinux_permissive"] = Json::array();
  for (const PermissiveWord& word : info.permissive)
    out["selinux_permissive"].push_back({{"where", word.where}, {"word", word.word}});
  out["tail"] = Json::array();
  for (const TailInfo& item : info.tail)
    out["tail"].push_back({{"kind", item.kind}, {"offset", item.offset}, {"size", item.size}});
  if (!info.prefix_kind.empty())
    out["prefix"] = {{"kind", info.prefix_kind},
                     {"size", info.prefix_size},
                     {"true", info.prefix_true ? Json(*info.prefix_true) : Json()}};
  if (info.vbmeta) out["vbmeta"] = vbmeta_json(*info.vbmeta);
  if (info.footer) out["footer"] = footer_json(*info.footer);
  if (info.older_signature)
    out["older_signature"] = {{"target", info.older_signature->target},
                              {"length", info.older_signature->length},
                              {"algorithm", info.older_signature->algorithm},
                              {"certificate_sha256", info.older_signature->certificate_sha256},
                              {"subject", info.older_signature->subject},
                              {"holds", info.older_signature->holds}};
  if (info.boot_signature) out["boot_signature"] = footer_json(*info.boot_signature);
  return out;
}

}  // namespace

Json inspection_json(const Inspection& item) {
  Json layers = Json::array(), partitions = Json::array();
  for (const Layer& layer : item.layers)
    layers.push_back({{"kind", layer.kind}, {"detail", layer.detail}});
  for (const PartitionFacts& one : item.partitions)
    partitions.push_back({{"name", one.name},
                          {"size", one.size},
                          {"stored_size", one.stored_size},
                          {"operations", one.operations},
                          {"sha256", optional_text(one.sha256)},
                          {"kind", optional_text(one.held)},
                          {"detail", optional_text(one.detail)},
                          {"from", optional_text(one.from)},
                          {"inside", optional_text(one.inside)}});
  Json out = {{"path", item.path},
              {"kind", item.kind},
              {"size", item.size},
              {"layers", layers},
              {"partitions", partitions}};
  if (item.image) out["image"] = image_json(*item.image);
  if (!item.starts.empty()) out["starts"] = starts_json(item.starts);
  if (item.footer) out["footer"] = footer_json(*item.footer);
  const BuildFacts& build = item.build;
  out["build"] = {{"fingerprint", optional_text(build.fingerprint)},
                  {"device", optional_text(build.device)},
                  {"patch_level", optional_text(build.patch_level)},
                  {"timestamp", build.timestamp ? Json(*build.timestamp) : Json()},
                  {"incremental", optional_text(build.incremental)},
                  {"base", optional_text(build.base)},
                  {"region", optional_text(build.region)},
                  {"baseband", optional_text(build.baseband)},
                  {"bootloader", optional_text(build.bootloader)},
                  {"sdk_level", optional_text(build.sdk_level)},
                  {"demands", build.demands}};
  if (item.chain) out["chain"] = chain_json(*item.chain);
  if (!item.groups.empty()) {
    out["groups"] = Json::array();
    for (const Group& group : item.groups)
      out["groups"].push_back(
          {{"name", group.name}, {"size", group.size}, {"partitions", group.partitions}});
  }
  if (!item.partitions.empty()) out["package"] = item.incremental ? "incremental" : "full";
  return out;
}

}  // namespace wexlo::cli
