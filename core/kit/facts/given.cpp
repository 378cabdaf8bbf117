#include "kit/facts/given.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "archive/bundle.hpp"
#include "base/contains.hpp"
#include "base/digest.hpp"
#include "base/error_kinds.hpp"
#include "base/source_read.hpp"
#include "firmware/build_text.hpp"
#include "firmware/extract_manifest.hpp"
#include "firmware/system_properties.hpp"
#include "judge/subject.hpp"
#include "recipe/patch.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

constexpr std::uint64_t kPlaceholder = 4096;

/// Device trees and structs may well be that small: they read, so they are none.
bool is_placeholder(std::uint64_t size, std::string_view kind) {
  return size < kPlaceholder && kind != "vbmeta" && kind != "dtb" && kind != "dt-table";
}

Status read_given_image(Given& out, std::vector<Finding>& findings, const Context& context) {
  out.size = out.source->size();
  WEXLO_TRY(const Bytes start, read_some(*out.source, 0, kProbeSize));
  const auto found = identify_bytes(start);
  out.kind = found ? std::string(found->format->kind) : "";
  const std::string where = out.partition;
  if (is_placeholder(out.size, out.kind)) {
    findings.push_back({Level::Problem,
                        {FindingCode::GivenPlaceholder, out.partition},
                        fmt::format("The file for {} holds {} bytes: a placeholder, not an image.",
                                    out.partition, out.size),
                        where});
    return {};
  }
  look_at_name(out.file, out.kind, where, findings);
  out.build.merge(build_in_image(*out.image));
  if (found && found->format->parse_image != nullptr && out.size <= kMaxImage) {
    WEXLO_TRY(const LoadedImage loaded, load_image(*out.source));
    const std::string_view kind = loaded.image ? loaded.image->kind() : std::string_view();
    if (kind == "boot" || kind == "vendor_boot")
      out.header_version = loaded.image->layout().version;
    if (const auto phone = phone_facts(loaded, context)) {
      out.architecture =
          phone->architecture.empty() ? phone->kernel_architecture : phone->architecture;
    }
    return {};
  }
  WEXLO_TRY(SystemProperties system, scan_system(*out.source, context));
  out.architecture = std::move(system.architecture);
  out.slotted = system.slotted;
  // What the image's own footer names is believed first.
  out.build.merge(system.build);
  return {};
}

Finding mixed(FindingCode code, const std::string& partition, std::string message) {
  return {Level::Problem, {code, partition}, std::move(message), partition};
}

/// A fingerprint's first word.
std::string_view brand_of(const BuildFacts& build) {
  return std::string_view(build.fingerprint).substr(0, build.fingerprint.find('/'));
}

/// Partitions from another tool (a chip maker's, a common kernel) name builds of their own; and
/// what is as new as its siblings may be of a sibling build that goes with them.
void tell_of_sibling(const std::string& name, const BuildFacts& build, const BuildFacts& newest,
                     std::vector<Finding>& findings) {
  if (build.fingerprint == newest.fingerprint || brand_of(build) != brand_of(newest)) return;
  const bool older = build.patch_level < newest.patch_level;
  Finding found = mixed(
      FindingCode::Mixed, name,
      fmt::format("{} is of the build {}{}, others beside it are of {}: images of one build belong "
                  "together.",
                  name, build.fingerprint, older ? " and older" : "", newest.fingerprint));
  if (!older) found.level = Level::Warning;
  findings.push_back(std::move(found));
}

/// What was taken out with Wexlo has a list of digests beside it.
Status check_extracted(const Firmware& firmware, const std::string& path,
                       std::vector<Finding>& findings, const Context& context) {
  const fs::path manifest = fs::path(path) / std::string(kExtractManifest);
  const auto source = open_file(manifest);
  if (!source && source.error().code == ErrorCode::NotFound) return {};
  if (!source) return fail(source.error());
  WEXLO_TRY(const Blob text, read_all(**source, 16u << 20));
  WEXLO_TRY(const ExtractManifest list,
            parse_extract_manifest(as_text(text.view()), manifest.string()));
  for (const ExtractedRow& row : list.partitions) {
    const PartitionFacts* one = firmware.find(row.name);
    // Large ones take long; what is flashed from a folder is the boot chain.
    if (one == nullptr || one->size > kMaxImage || row.sha256.empty()) continue;
    WEXLO_TRY(const SourcePtr image, one->content->source(context));
    WEXLO_TRY(const Bytes found,
              digest_of_start(*image, image->size(), DigestKind::Sha256, context));
    if (hex(found) != row.sha256)
      findings.push_back(mixed(FindingCode::Changed, one->name,
                               fmt::format("{} is not what was taken out of the package: {} names "
                                           "another digest for it.",
                                           one->name, kExtractManifest)));
  }
  return {};
}

}  // namespace

BuildFacts build_in_image(const PartitionFacts& image) {
  Firmware alone;
  PartitionFacts copy = image;
  // Under a name that is asked for its properties, whatever the file calls it.
  copy.name = "boot";
  alone.partitions.push_back(std::move(copy));
  facts_from_images(alone);
  return alone.build;
}

void look_at_name(const std::string& file, const std::string& kind, const std::string& where,
                  std::vector<Finding>& findings) {
  const std::string name = lower_case(base_name(file));
  const std::size_t dot = name.rfind('.');
  if (dot == name.npos || dot == 0) return;
  const std::string last = name.substr(dot + 1);
  std::string before = name.substr(0, dot);
  const std::size_t second = before.rfind('.');
  before = second == before.npos ? "" : before.substr(second + 1);
  const auto is_image = [](const std::string& one) {
    return one == "img" || one == "bin" || one == "mbn" || one == "image";
  };
  constexpr std::array kPrograms{"exe", "apk", "lnk", "bat", "cmd", "scr", "js", "html", "htm"};
  if (std::ranges::find(kPrograms, last) != kPrograms.end())
    findings.push_back(
        {Level::Problem,
         {FindingCode::FileName, where},
         fmt::format("{} is named as a program or a page, not as an image.", base_name(file)),
         where});
  else if (is_image(before) && (is_image(last) || last == "txt" || last == "zip"))
    findings.push_back(
        {Level::Warning, FindingCode::DoubledExtension,
         fmt::format("{} has two endings: something renamed it on the way{}.", base_name(file),
                     kind.empty() ? "" : fmt::format("; inside it is {}", kind)),
         where});
}

/// Of one that cannot be read the size alone tells: others of the firmware are not its affair.
Result<bool> is_placeholder(const PartitionFacts& one, const Context& context) {
  if (one.size == 0 || one.size >= kPlaceholder) return false;
  const auto source = one.content->source(context);
  const auto start = source ? read_some(**source, 0, kProbeSize) : fail(source.error());
  if (!start && is_of_this_run(start.error().code)) return fail(start.error());
  const auto found = start ? identify_bytes(*start) : std::nullopt;
  return is_placeholder(one.size, found ? found->format->kind : "");
}

Status look_at_siblings(const Firmware& firmware, const std::string& path,
                        std::vector<Finding>& findings, const Context& context) {
  std::error_code ignored;
  const bool folder = fs::is_directory(path, ignored);
  BuildFacts newest;
  std::vector<std::pair<std::string, BuildFacts>> builds;
  for (const PartitionFacts& one : firmware.partitions) {
    const bool boot_class = is_boot_class(without_slot(one.name));
    if (!boot_class) continue;
    WEXLO_TRY(const bool placeholder, is_placeholder(one, context));
    if (placeholder) {
      findings.push_back(mixed(
          FindingCode::Placeholder, one.name,
          fmt::format("{} holds {} bytes: a placeholder, not an image.", one.name, one.size)));
      continue;
    }
    // A package is of one build; loose files may have come together from anywhere.
    if (!folder) continue;
    if (!one.from.empty()) look_at_name(one.from, one.held, one.name, findings);
    const BuildFacts build = build_in_image(one);
    if (build.fingerprint.empty()) continue;
    if (build.patch_level > newest.patch_level || newest.fingerprint.empty()) newest = build;
    builds.emplace_back(one.name, build);
  }
  for (const auto& [name, build] : builds)
    tell_of_sibling(name, build, newest, findings);
  return folder ? check_extracted(firmware, path, findings, context) : Status();
}

Result<Given> open_given(const GivenFile& what, std::vector<Finding>& findings,
                         const Context& context) {
  Given out{.partition = what.partition, .file = what.before ? what.before->name : what.file};
  if (!what.partition.empty()) WEXLO_CHECK(check_partition_name(what.partition));
  auto opened = open_firmware(what.file, {.context = context});
  if (!opened && opened.error().code == ErrorCode::BadMagic && !what.partition.empty()) {
    // Of no kind that is known: a partition of a maker's own, given as it is.
    WEXLO_TRY(SourcePtr source, open_input(what.file, context));
    auto bare = std::make_shared<Firmware>();
    bare->single = true;
    bare->partitions.push_back(
        {.name = what.partition, .size = source->size(), .content = content_of(source)});
    out.firmware = std::move(bare);
  } else if (!opened) {
    return fail(std::move(opened).error());
  } else {
    out.firmware = std::move(*opened);
  }
  if (what.partition.empty()) {
    WEXLO_TRY(out.source, open_input(what.file, context));
    out.size = out.source->size();
    out.kind = out.firmware->kind;
    out.build = what.before ? what.before->build : out.firmware->build;
    out.payload = contains(out.firmware->layers, "payload", &Layer::kind);
    look_at_name(out.file, out.kind, "install", findings);
    return out;
  }
  const Firmware& inside = *out.firmware;
  if (inside.single || inside.partitions.size() == 1) {
    out.image = &inside.partitions.front();
  } else {
    // A package, or a super image: the partition of that name in it is meant.
    WEXLO_TRY(out.image, inside.choose(what.partition, what.file));
  }
  if (what.before)
    out.build = what.before->build;
  else if (!inside.single)
    out.build = inside.build;
  WEXLO_TRY(out.source, out.image->content->source(context));
  if (what.before && what.before->size < out.source->size()) {
    WEXLO_TRY(out.source, open_window(out.source, 0, what.before->size, what.before->name));
  }
  WEXLO_CHECK(read_given_image(out, findings, context));
  return out;
}

}  // namespace wexlo
