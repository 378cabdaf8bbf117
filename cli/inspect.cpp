#include "job/inspect.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "base/text.hpp"
#include "commands.hpp"
#include "options.hpp"
#include "reply.hpp"
#include "time_text.hpp"

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
              {"origin", info.origin},
              {"origin_reason", info.origin_reason},
              {"journal", info.journal}};
  out["id_matches"] = info.id_matches ? Json(*info.id_matches) : Json();
  if (info.vbmeta) out["vbmeta"] = vbmeta_json(*info.vbmeta);
  if (info.footer) {
    const FooterInfo& footer = *info.footer;
    out["footer"] = {
        {"original_image_size", footer.original_image_size},
        {"vbmeta_offset", footer.vbmeta_offset},
        {"vbmeta_size", footer.vbmeta_size},
        {"digest_matches", footer.digest_matches ? Json(*footer.digest_matches) : Json()},
        {"vbmeta", vbmeta_json(footer.vbmeta)}};
  }
  return out;
}

Json item_json(const Inspection& item) {
  Json layers = Json::array(), partitions = Json::array();
  for (const Layer& layer : item.layers)
    layers.push_back({{"kind", layer.kind}, {"detail", layer.detail}});
  for (const PartitionFacts& one : item.partitions)
    partitions.push_back({{"name", one.name},
                          {"size", one.size},
                          {"stored_size", one.stored_size},
                          {"operations", one.operations},
                          {"sha256", optional_text(one.sha256)}});
  Json out = {{"path", item.path},
              {"kind", item.kind},
              {"size", item.size},
              {"layers", layers},
              {"partitions", partitions}};
  if (item.image) out["image"] = image_json(*item.image);
  const BuildFacts& build = item.build;
  out["build"] = {{"fingerprint", optional_text(build.fingerprint)},
                  {"device", optional_text(build.device)},
                  {"patch_level", optional_text(build.patch_level)},
                  {"timestamp", build.timestamp ? Json(*build.timestamp) : Json()},
                  {"incremental", optional_text(build.incremental)}};
  if (!item.partitions.empty()) out["package"] = item.incremental ? "incremental" : "full";
  return out;
}

/// One item told to people.
class Teller {
 public:
  Teller(const Inspection& item, const Session& session) : item_(item), session_(session) {}

  std::string text() {
    out_ += session_.paint.heading(printable(item_.path)) + "\n";
    std::string shells;
    for (const Layer& layer : item_.layers)
      shells += fmt::format("{}{}{}", shells.empty() ? "" : " > ", layer.kind,
                            layer.detail.empty() ? "" : " (" + layer.detail + ")");
    line("kind", shells + (item_.size != 0 ? ", " + human_size(item_.size) : ""));
    line("build", item_.build.fingerprint);
    line("device", item_.build.device);
    line("patch level", item_.build.patch_level);
    if (item_.build.timestamp) line("built", utc_time(*item_.build.timestamp));
    if (!item_.partitions.empty()) partitions();
    if (item_.image) image(*item_.image);
    return out_;
  }

 private:
  void line(std::string_view name, std::string_view value) {
    if (!value.empty()) out_ += fmt::format("  {:<14}{}\n", name, printable(value));
  }

  void partitions() {
    const bool packed = std::ranges::any_of(
        item_.partitions, [](const PartitionFacts& one) { return one.operations > 0; });
    Table table(packed ? std::vector<std::string>{"partition", ">size", ">in package",
                                                  ">operations", "SHA-256"}
                       : std::vector<std::string>{"partition", ">size"});
    for (const PartitionFacts& one : item_.partitions) {
      std::vector<std::string> cells{one.name, human_size(one.size)};
      if (packed) {
        cells.push_back(human_size(one.stored_size));
        cells.push_back(fmt::format("{}", one.operations));
        cells.push_back(shorten(one.sha256));
      }
      table.row(std::move(cells));
    }
    out_ += "\n" + table.text(session_.paint);
  }

  std::string shorten(const std::string& digest) const {
    return session_.globals.verbose || digest.size() < 16 ? digest : digest.substr(0, 16) + "…";
  }

  void image(const ImageInfo& info) {
    line("header", info.page_size == 0 ? fmt::format("version {}", info.header_version)
                                       : fmt::format("version {}, pages of {}", info.header_version,
                                                     info.page_size));
    line("os version", info.os_version);
    line("patch level", info.patch_level);
    line("cmdline", info.cmdline);
    const std::string origin = info.origin == "pristine" ? session_.paint.good(info.origin)
                                                         : session_.paint.warning(info.origin);
    out_ += fmt::format("  {:<14}{}: {}\n", "origin", origin, printable(info.origin_reason));
    for (const std::string& edit : info.journal)
      line("", "- " + edit);
    if (!info.parts.empty()) {
      Table table({"part", ">offset", ">size", "compression", "SHA-256", ""});
      for (const PartInfo& part : info.parts)
        table.row({part.name, fmt::format("0x{:x}", part.offset), fmt::format("{}", part.size),
                   part.compression, shorten(part.sha256), printable(part.detail)});
      out_ += "\n" + table.text(session_.paint);
    }
    if (info.footer) footer(*info.footer);
    if (info.vbmeta) vbmeta(*info.vbmeta, false);
  }

  void footer(const FooterInfo& footer) {
    out_ += "\n";
    line("verified boot",
         fmt::format("footer: image of {} bytes, struct of {} bytes at 0x{:x}",
                     footer.original_image_size, footer.vbmeta_size, footer.vbmeta_offset));
    if (footer.digest_matches)
      line("", *footer.digest_matches ? "its digest is true for this image"
                                      : "its digest does not match this image");
    vbmeta(footer.vbmeta, true);
  }

  void vbmeta(const VbmetaInfo& info, bool footer) {
    line("algorithm", info.algorithm);
    line("public key",
         info.public_key_sha256.empty() ? "" : "SHA-256 " + shorten(info.public_key_sha256));
    line("rollback", fmt::format("index {}", info.rollback_index));
    // In a footer's struct flags mean nothing while they are 0, and are fatal otherwise.
    if (footer && info.flags == 0) return descriptors(info);
    line("flags", info.flag_names.empty()
                      ? "0 (verification on)"
                      : fmt::format("{} ({})", info.flags, fmt::join(info.flag_names, ", ")));
    descriptors(info);
  }

  void descriptors(const VbmetaInfo& info) {
    if (info.descriptors.empty()) return;
    Table table({"descriptor", "partition", "what it says"});
    for (const DescriptorInfo& descriptor : info.descriptors)
      table.row(row_of(descriptor));
    out_ += "\n" + table.text(session_.paint);
  }

  std::vector<std::string> row_of(const DescriptorInfo& descriptor) const {
    std::string says;
    for (const auto& [name, value] : descriptor.values) {
      const bool digest = value.size() >= 40;
      if (descriptor.kind == "property") {
        says += (says.empty() ? "" : " = ") + printable(value);
        continue;
      }
      if (!session_.globals.verbose && (value.empty() || value == "0" || name == "salt")) continue;
      says += fmt::format("{}{} {}", says.empty() ? "" : ", ", name,
                          digest ? shorten(value) : printable(value));
      if (!session_.globals.verbose && name == "tree_size") {
        says += ", root " + shorten(descriptor.values.back().second);
        break;
      }
    }
    return {descriptor.kind, printable(descriptor.partition), says};
  }

  const Inspection& item_;
  const Session& session_;
  std::string out_;
};

Result<Reply> run(const std::vector<std::string>& paths, const Session& session) {
  Reply reply;
  reply.result["items"] = Json::array();
  for (const std::string& path : paths) {
    WEXLO_TRY(const Inspection item, inspect(path));
    reply.result["items"].push_back(item_json(item));
    reply.text += (reply.text.empty() ? "" : "\n") + Teller(item, session).text();
  }
  return reply;
}

}  // namespace

void add_inspect(CLI::App& app, Session& session, int& exit_code) {
  auto paths = std::make_shared<std::vector<std::string>>();
  Command(app, "inspect", "Tell what a file or folder is, layer by layer")
      .positional("PATH", *paths, "Firmware, image or folder")
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "inspect", run(*paths, session));
      });
}

}  // namespace wexlo::cli
