#include "firmware/extract.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "commands.hpp"
#include "firmware/formats.hpp"
#include "inspect.hpp"
#include "options.hpp"
#include "reply.hpp"
#include "text/text.hpp"
#include "verified/key.hpp"

namespace wexlo::cli {
namespace {

struct ExtractArguments {
  std::string firmware, folder, base, key;
  std::vector<std::string> also;
  ExtractOptions extract;
  bool force = false, list = false;
};

constexpr std::uint64_t kMaxKey = 64u << 10;

/// A word among the partitions that is a file: a further package of the same set.
bool names_package(const std::string& word) {
  std::error_code ignored;
  return word.find_first_of("./") != word.npos && !std::filesystem::is_directory(word, ignored) &&
         std::filesystem::exists(word, ignored);
}

Result<FirmwarePtr> open(ExtractArguments& options, const Context& context) {
  Opening opening{.context = context};
  if (!options.key.empty()) {
    WEXLO_TRY(opening.key, read_key_file(options.key));
  }
  if (!options.base.empty()) {
    WEXLO_TRY(FirmwarePtr base, open_firmware(options.base, {.context = context}));
    opening.base = std::make_shared<const BaseImages>(std::move(base), options.base);
  }
  std::vector<std::string> where{options.firmware};
  where.insert(where.end(), options.also.begin(), options.also.end());
  std::erase_if(options.extract.partitions, [&](const std::string& word) {
    if (!names_package(word)) return false;
    where.push_back(word);
    return true;
  });
  options.extract.inputs = where;
  options.extract.inputs.insert(options.extract.inputs.end(), {options.base, options.key});
  return open_firmware(where, opening);
}

Reply list(const Firmware& firmware, const std::vector<const PartitionFacts*>& chosen,
           const Session& session) {
  Reply reply;
  reply.result["partitions"] = Json::array();
  Table table({"partition", ">size", "from"});
  for (const PartitionFacts& one : firmware.partitions) {
    const bool taken = std::ranges::find(chosen, &one) != chosen.end();
    reply.result["partitions"].push_back(
        {{"name", one.name},
         {"size", one.size},
         {"sha256", one.sha256.empty() ? Json() : Json(one.sha256)},
         {"from", one.from},
         {"chosen", taken}});
    table.row({one.name + (taken ? " *" : ""), human_size(one.size),
               printable(one.inside.empty() ? one.from : "inside " + one.inside)});
  }
  reply.text = table.text(session.paint) + "\n* would be taken out. Nothing was written.\n";
  return reply;
}

void add_notes(const Firmware& firmware, const std::string& file, Reply& reply) {
  for (Finding one : firmware.notes) {
    one.where = file;
    reply.findings.push_back(std::move(one));
  }
}

/// `-o init_boot.img` is the image itself, as everybody means it; a folder that is there stays one.
bool names_image(const std::string& path) {
  std::error_code ignored;
  const std::string ending = lower_case(std::filesystem::path(path).extension().string());
  return ending == ".img" && !std::filesystem::is_directory(path, ignored);
}

Result<Reply> run_extract(ExtractArguments options, const Session& session) {
  if (names_image(options.folder)) options.extract.file = options.folder;
  if (options.force) options.extract.overwrite = Overwrite::Replace;
  if (!options.list && options.folder.empty())
    return fail({.code = ErrorCode::Usage,
                 .message = "extract needs a folder for the images",
                 .hint = "Add -o DIR, or --list to see what there is."});
  WEXLO_TRY(const FirmwarePtr firmware, open(options, session.context));
  if (options.list) {
    const auto chosen = choose_partitions(*firmware, options.firmware, options.extract);
    // Without names there may be no boot chain: the list is what was asked for all the same.
    if (!chosen && !options.extract.partitions.empty()) return fail(chosen.error());
    Reply reply = list(*firmware, chosen.value_or(std::vector<const PartitionFacts*>()), session);
    add_notes(*firmware, options.firmware, reply);
    return reply;
  }
  WEXLO_TRY(const Extracted extracted,
            extract(*firmware, options.firmware, options.extract, options.folder, session.context));
  Reply reply;
  add_notes(*firmware, options.firmware, reply);
  reply.result["partitions"] = Json::array();
  Table table({"partition", ">size", "verified by", "file"});
  std::vector<std::string> unproven;
  for (const ExtractedPartition& one : extracted.partitions) {
    reply.result["partitions"].push_back(
        {{"name", one.name},
         {"file", one.file.string()},
         {"size", one.size},
         {"sha256", one.sha256.empty() ? Json() : Json(one.sha256)},
         {"verified", one.verified},
         {"proof", one.verified ? Json(one.proof) : Json()},
         {"from", one.from}});
    table.row({one.name, human_size(one.size), one.verified ? one.proof : "nothing promised",
               printable(one.file.string())});
    if (!one.verified) unproven.push_back(one.name);
    if (!one.damage.empty())
      reply.findings.push_back(
          {Level::Warning, FindingCode::DamagedImage,
           "The image was taken out as it is, and does not read: " + one.damage, one.name});
    if (!one.remark.empty())
      reply.findings.push_back({Level::Warning, FindingCode::BytesBehind, one.remark, one.name});
  }
  for (const std::string& name : unproven)
    reply.findings.push_back({Level::Warning, FindingCode::NoDigest,
                              "The package promises no digest: the image could not be verified.",
                              name});
  for (const std::string& name : extracted.empty)
    reply.findings.push_back({Level::Note, FindingCode::EmptyPartition,
                              "The partition has no bytes here: nothing was written.", name});
  reply.result["manifest"] =
      options.extract.file.empty()
          ? Json((std::filesystem::path(options.folder) / kExtractManifest).string())
          : Json();
  reply.text = table.text(session.paint);
  return reply;
}

}  // namespace

Result<std::string> read_key_file(const std::string& path) {
  WEXLO_TRY(const SourcePtr source, open_file(path));
  WEXLO_TRY(const Blob bytes, read_all(*source, kMaxKey));
  // Verified boot's own form of a public key will do, too.
  if (verified::key_bits(bytes.view()) != 0) return verified::public_key_pem(bytes.view());
  return std::string(as_text(bytes.view()));
}

void add_extract(Commands& commands, Session& session, int& exit_code) {
  auto options = std::make_shared<ExtractArguments>();
  Command(commands, "extract")
      .operand("FIRMWARE", options->firmware, "The package: a file, a folder, or an address")
      .operand("PARTITION", options->extract.partitions,
               "Partitions; none: the boot chain. A file here is a further package of the set",
               Need::Optional)
      .option("-o,--output", "DIR", options->folder,
              "Folder for the images; for one partition, also its file: NAME.img")
      .flag("--all", options->extract.all, "Every partition")
      .flag("--list", options->list,
            "Show what there is and what would be taken out; write nothing")
      .option("--base", "DIR|FIRMWARE", options->base,
              "The older build's images, for an incremental package")
      .option("--also", "FIRMWARE", options->also, "A further package of the same set")
      .option("--key", "PUBKEY", options->key, "Verify the payload metadata's signature (PEM)")
      .flag("--digests", options->extract.digests,
            "SHA-256 of large images too, where the package promises none")
      .flag("--quick", options->extract.quick,
            "Leave out sums over whole packages, and SHA-256 where nothing promises one")
      .excludes("--quick", "--digests")
      .flag("--force", options->force, "Replace images that are there already")
      .runs([=, &session, &exit_code] {
        // Two ways to say which: they contradict each other, unless the words are packages.
        const bool both = options->extract.all &&
                          !std::ranges::all_of(options->extract.partitions, names_package);
        exit_code = finish(session, "extract",
                           both ? fail({.code = ErrorCode::Usage,
                                        .message = "--all and PARTITION contradict each other",
                                        .hint = "Name partitions, or take all."})
                                : run_extract(*options, session));
      });
}

}  // namespace wexlo::cli
