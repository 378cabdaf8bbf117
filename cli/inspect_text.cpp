#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "base/digest.hpp"
#include "chain.hpp"
#include "inspect.hpp"
#include "text/text.hpp"
#include "time_text.hpp"

namespace wexlo::cli {
namespace {

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
    if (!item_.image && !item_.partitions.empty())
      line("package", item_.incremental ? "incremental: it starts from an older build" : "full");
    line("starts from", item_.build.base);
    line("region", item_.build.region);
    line("baseband", item_.build.baseband);
    line("bootloader", item_.build.bootloader);
    const std::size_t shown = session_.globals.verbose ? item_.build.demands.size() : 6;
    for (std::size_t i = 0; i < std::min(shown, item_.build.demands.size()); ++i)
      line(i == 0 ? "demands" : "", item_.build.demands[i]);
    starts(item_.starts);
    if (!item_.partitions.empty()) partitions();
    if (item_.chain) {
      out_ += "\n" + session_.paint.heading("  verified boot: what covers what") + "\n";
      out_ += chain_text(*item_.chain, session_);
    }
    if (item_.image) image(*item_.image);
    if (item_.footer) footer(*item_.footer);
    return out_;
  }

 private:
  void line(std::string_view name, std::string_view value) {
    if (!value.empty()) out_ += fmt::format("  {:<13} {}\n", name, printable(value));
  }

  template <class F>
  bool any(F&& has) const {
    return std::ranges::any_of(item_.partitions, std::forward<F>(has));
  }

  void partitions() {
    using Facts = PartitionFacts;
    // A column that has nothing to say is left out.
    const bool packed = any([](const Facts& one) { return one.stored_size != one.size; });
    const bool payload =
        session_.globals.verbose && any([](const Facts& one) { return one.operations > 0; });
    const bool digests = any([](const Facts& one) { return !one.sha256.empty(); });
    const bool held = any([](const Facts& one) { return !one.held.empty(); });
    const bool detail = any([](const Facts& one) { return !one.detail.empty(); });
    const bool from =
        any([](const Facts& one) { return !one.from.empty() || !one.inside.empty(); });
    std::vector<std::string> head{"partition", ">size"};
    if (packed) head.emplace_back(">in package");
    if (payload) head.emplace_back(">operations");
    if (held) head.emplace_back("kind");
    if (detail) head.emplace_back("detail");
    if (digests) head.emplace_back("~SHA-256");
    if (from) head.emplace_back("from");
    Table table(head);
    for (const Facts& one : item_.partitions) {
      std::vector<std::string> cells{one.name, human_size(one.size)};
      if (packed) cells.push_back(human_size(one.stored_size));
      if (payload) cells.push_back(fmt::format("{}", one.operations));
      if (held) cells.push_back(one.held.empty() ? "-" : one.held);
      if (detail) cells.push_back(printable(one.detail));
      if (digests) cells.push_back(shorten(one.sha256));
      if (from) cells.push_back(printable(origin_of(one)));
      table.row(std::move(cells));
    }
    out_ += "\n" + table.text(session_.paint);
    groups();
  }

  /// Where it stands in the package; folders on the way only when asked for.
  std::string origin_of(const PartitionFacts& one) const {
    if (!one.inside.empty()) return "inside " + one.inside;
    if (session_.globals.verbose) return one.from;
    std::string out;
    for (std::string_view rest = one.from; !rest.empty();) {
      const std::size_t end = std::min(rest.find('!'), rest.size());
      out += (out.empty() ? "" : "!") + std::string(base_name(rest.substr(0, end)));
      rest.remove_prefix(std::min(end + 1, rest.size()));
    }
    return out;
  }

  void groups() {
    if (item_.groups.empty()) return;
    Table table({"group", ">room", "logical partitions"});
    for (const Group& group : item_.groups)
      table.row({printable(group.name), group.size == 0 ? "no bound" : human_size(group.size),
                 printable(fmt::format("{}", fmt::join(group.partitions, ", ")))});
    out_ += "\n" + table.text(session_.paint);
  }

  std::string shorten(const std::string& digest) const {
    return session_.globals.verbose || digest.size() < 16 ? digest : short_digest(digest);
  }

  std::string joined(const std::vector<StartPart>& parts) const {
    std::string out;
    for (const StartPart& part : parts) {
      const std::string what = part.name.empty() ? part.type : part.name + ", " + part.type;
      out += fmt::format("{}{} ({})", out.empty() ? "" : " + ", part.partition, printable(what));
    }
    return out;
  }

  void starts(const Starts& starts) {
    line("normal start", joined(starts.normal));
    line("recovery", joined(starts.recovery));
  }

  void kernel(const kernel::Kernel& kernel) {
    std::string what = kernel.form;
    if (kernel.compression != "none") what += ", " + kernel.compression;
    if (kernel.decoded_size != 0)
      what += fmt::format(" ({} decoded)", human_size(kernel.decoded_size));
    if (!kernel.wrapping.empty()) what += ", behind a " + kernel.wrapping;
    if (!kernel.config.empty()) what += ", with its configuration";
    line("kernel", what);
    line("", kernel.banner.empty() ? "no version banner found" : kernel.banner);
  }

  void origin(const Origin& origin) {
    const bool good = origin.word == OriginWord::Pristine;
    const std::string word = good ? session_.paint.good(std::string(origin_word(origin.word)))
                             : origin.word == OriginWord::Altered
                                 ? session_.paint.bad(std::string(origin_word(origin.word)))
                                 : session_.paint.warning(std::string(origin_word(origin.word)));
    out_ += fmt::format("  {:<14}{}: {}\n", "origin", word, printable(origin.reason));
    for (const Sign& sign : origin.signs)
      line("", fmt::format("- {}: {}", sign_name(sign.kind), sign.text));
  }

  void ramdisks(const ImageInfo& info) {
    const bool fragments = !info.ramdisks.empty() && !info.ramdisks.front().type.empty();
    const bool settings = !info.ramdisks.empty() && !info.ramdisks.front().encoders.empty();
    if (!fragments && !settings) return;
    Table table({"ramdisk", "type", ">offset", ">size", ">entries", ">decoded", "compression",
                 settings ? "encoder (how much of it was tried)" : "board"});
    for (const RamdiskInfo& one : info.ramdisks) {
      std::string last = one.board_id.empty() ? "any" : one.board_id;
      if (settings) last.clear();
      for (std::size_t i = 0; i < one.encoders.size(); ++i)
        last += fmt::format("{}{} ({})", i == 0 ? "" : "; ", one.encoders[i], one.proofs[i]);
      table.row({printable(one.title), one.type.empty() ? "-" : one.type,
                 fmt::format("0x{:x}", one.offset), fmt::format("{}", one.size),
                 fmt::format("{}", one.entries), human_size(one.decoded_size), one.compression,
                 last});
    }
    out_ += "\n" + table.text(session_.paint);
  }

  void trees(const ImageInfo& info) {
    if (info.trees.empty()) return;
    Table table({"device tree in", ">offset", ">size", "model", "compatible", "table entry"});
    for (const TreeInfo& tree : info.trees) {
      std::string entries = tree.compression == "none" ? "" : tree.compression + " ";
      for (const std::string& entry : tree.entries)
        entries += (entries.empty() ? "" : "; ") + entry;
      table.row({tree.part, fmt::format("0x{:x}", tree.offset), fmt::format("{}", tree.size),
                 tree.model.empty() ? (tree.overlay ? "(overlay)" : "-") : printable(tree.model),
                 printable(fmt::format("{}", fmt::join(tree.compatible, ", "))), entries});
    }
    out_ += "\n" + table.text(session_.paint);
  }

  void around(const ImageInfo& info) {
    if (!info.prefix_kind.empty())
      line("before it",
           fmt::format("{} bytes of a maker's, kind {}{}", info.prefix_size, info.prefix_kind,
                       !info.prefix_true   ? ""
                       : *info.prefix_true ? ", valid"
                                           : ", not valid"));
    std::string behind;
    for (const TailInfo& item : info.tail)
      behind +=
          fmt::format("{}{} ({})", behind.empty() ? "" : ", ", item.kind, human_size(item.size));
    line("behind it", behind);
    if (info.older_signature)
      line("older signature",
           fmt::format("{}, for {}, {}", info.older_signature->algorithm,
                       info.older_signature->target,
                       info.older_signature->holds ? "valid" : "not valid for this image"));
    if (info.boot_signature && info.boot_signature->digest_matches)
      line("boot signature", *info.boot_signature->digest_matches
                                 ? "its digest matches this image"
                                 : "its digest does not match this image");
  }

  void image(const ImageInfo& info) {
    line("header", info.page_size == 0 ? fmt::format("version {}", info.header_version)
                                       : fmt::format("version {}, pages of {}", info.header_version,
                                                     info.page_size));
    line("os version", info.os_version);
    line("patch level", info.patch_level);
    line("cmdline", info.cmdline);
    if (info.layout != "none") line("layout", info.layout);
    line("name", info.name);
    if (info.kernel) kernel(*info.kernel);
    starts(info.starts);
    if (info.id_matches)
      line("id digest", *info.id_matches ? "matches" : "follows no known recipe, or is stale");
    around(info);
    origin(info.origin);
    for (const std::string& edit : info.journal)
      line("", "- " + edit);
    for (const PermissiveWord& word : info.permissive)
      out_ += fmt::format("  {:<14}{}\n", "SELinux",
                          session_.paint.bad("permissive by " + printable(word.word)) + " in " +
                              printable(word.where));
    if (!info.parts.empty()) {
      Table table({"part", ">offset", ">size", "compression", "~SHA-256", ""});
      for (const PartInfo& part : info.parts)
        table.row({part.name, fmt::format("0x{:x}", part.offset), fmt::format("{}", part.size),
                   part.compression, shorten(part.sha256), printable(part.detail)});
      out_ += "\n" + table.text(session_.paint);
    }
    ramdisks(info);
    trees(info);
    if (session_.globals.verbose && !info.bootconfig.empty()) {
      out_ += "\n";
      std::string_view rest = info.bootconfig;
      for (const char* name = "bootconfig"; !rest.empty(); name = "") {
        const std::size_t end = std::min(rest.find('\n'), rest.size());
        line(name, rest.substr(0, end));
        rest.remove_prefix(std::min(end + 1, rest.size()));
      }
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
      line("", *footer.digest_matches ? "its digest matches this image"
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

}  // namespace

std::string inspection_text(const Inspection& item, const Session& session) {
  return Teller(item, session).text();
}

void add_findings(const Inspection& item, Reply& reply) {
  for (Finding one : item.notes) {
    one.where = item.path;
    reply.findings.push_back(std::move(one));
  }
  for (const StartProblem& problem : item.starts.problems)
    reply.findings.push_back({Level::Problem, FindingCode::JoinedRamdisk, problem.text, item.path});
  if (!item.image) return;
  for (const StartProblem& problem : item.image->starts.problems)
    reply.findings.push_back({Level::Problem, FindingCode::JoinedRamdisk, problem.text, item.path});
  for (const PermissiveWord& word : item.image->permissive)
    reply.findings.push_back({Level::Warning, FindingCode::SelinuxPermissive,
                              fmt::format("SELinux is made permissive by \"{}\" in {}",
                                          printable(word.word), printable(word.where)),
                              item.path});
  for (const RamdiskInfo& one : item.image->ramdisks)
    if (!one.trouble.empty())
      reply.findings.push_back(
          {Level::Warning, FindingCode::RamdiskUnread, one.title + ": " + one.trouble, item.path});
  if (item.image->origin.word == OriginWord::Altered)
    reply.findings.push_back(
        {Level::Warning, FindingCode::AlteredImage, item.image->origin.reason, item.path});
}

}  // namespace wexlo::cli
