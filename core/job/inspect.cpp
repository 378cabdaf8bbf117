#include "job/inspect.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/digest.hpp"
#include "base/text.hpp"
#include "image/boot.hpp"
#include "job/prepare.hpp"
#include "parts/parts.hpp"
#include "recipe/journal.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

/// How one descriptor is told, by kind.
struct Tell {
  using Values = std::vector<std::pair<std::string, std::string>>;
  static std::string number(std::uint64_t value) { return fmt::format("{}", value); }

  DescriptorInfo operator()(const verified::PropertyDescriptor& d) const {
    return {"property", "", {{"key", d.key}, {"value", d.value}}};
  }
  DescriptorInfo operator()(const verified::HashtreeDescriptor& d) const {
    return {"hashtree", d.partition,
            Values{{"hash_algorithm", d.hash_algorithm},
                   {"image_size", number(d.image_size)},
                   {"tree_offset", number(d.tree_offset)},
                   {"tree_size", number(d.tree_size)},
                   {"data_block_size", number(d.data_block_size)},
                   {"hash_block_size", number(d.hash_block_size)},
                   {"fec_num_roots", number(d.fec_num_roots)},
                   {"fec_offset", number(d.fec_offset)},
                   {"fec_size", number(d.fec_size)},
                   {"flags", number(d.flags)},
                   {"salt", hex(d.salt)},
                   {"root_digest", hex(d.root_digest)}}};
  }
  DescriptorInfo operator()(const verified::HashDescriptor& d) const {
    return {"hash", d.partition,
            Values{{"hash_algorithm", d.hash_algorithm},
                   {"image_size", number(d.image_size)},
                   {"flags", number(d.flags)},
                   {"salt", hex(d.salt)},
                   {"digest", hex(d.digest)}}};
  }
  DescriptorInfo operator()(const verified::CmdlineDescriptor& d) const {
    return {"kernel-cmdline", "", {{"flags", number(d.flags)}, {"text", d.text}}};
  }
  DescriptorInfo operator()(const verified::ChainDescriptor& d) const {
    return {"chain", d.partition,
            Values{{"rollback_index_location", number(d.rollback_index_location)},
                   {"public_key_sha256", sha256_hex(d.public_key)}}};
  }
  DescriptorInfo operator()(const verified::UnknownDescriptor& d) const {
    return {"unknown", "", {{"tag", number(d.tag)}, {"size", number(d.size)}}};
  }
};

Result<VbmetaInfo> vbmeta_info(const Image& vbmeta) {
  VbmetaInfo info{.algorithm = verified::algorithm_name(vbmeta.number("algorithm_type")),
                  .release = std::string(until_nul(vbmeta.raw("release_string"))),
                  .rollback_index = vbmeta.number("rollback_index"),
                  .flags = vbmeta.number("flags"),
                  .flag_names = verified::flag_names(vbmeta.number("flags")),
                  .hash_matches = verified::own_hash_matches(vbmeta)};
  const View key =
      vbmeta.section("auxiliary")
          ->bytes.view()
          .subspan(vbmeta.number("public_key_offset"), vbmeta.number("public_key_size"));
  if (!key.empty()) info.public_key_sha256 = sha256_hex(key);
  WEXLO_TRY(const auto all, verified::descriptors(vbmeta));
  for (const auto& descriptor : all)
    info.descriptors.push_back(std::visit(Tell{}, descriptor.value));
  return info;
}

Result<std::optional<FooterInfo>> footer_info(View bytes) {
  WEXLO_TRY(const auto footer, verified::find_footer(bytes));
  if (!footer) return std::nullopt;
  FooterInfo info{.original_image_size = footer->original_image_size,
                  .vbmeta_offset = footer->vbmeta_offset,
                  .vbmeta_size = footer->vbmeta_size};
  const Blob raw(to_bytes(bytes.subspan(footer->vbmeta_offset, footer->vbmeta_size)));
  auto vbmeta = verified::parse_vbmeta(raw);
  if (!vbmeta) return fail(at_base(std::move(vbmeta).error(), footer->vbmeta_offset));
  WEXLO_TRY(info.vbmeta, vbmeta_info(*vbmeta));
  WEXLO_TRY(info.digest_matches, verified::own_digest_matches(bytes));
  return info;
}

void tell_ramdisk(PartInfo& part, const Section& section, ImageInfo& info) {
  const auto ramdisk = parse_ramdisk(section.bytes);
  if (!ramdisk) {
    part.detail = "does not read: " + ramdisk.error().message;
    return;
  }
  part.compression = compression_name(ramdisk->compression());
  std::size_t entries = 0, decoded = 0;
  for (const RamdiskSegment& segment : ramdisk->segments)
    for (const newc::Entry& entry : segment.archive.entries) {
      entries += entry.is_trailer() ? 0 : 1;
      decoded += newc::kHeaderSize + entry.data().size();
    }
  part.detail = fmt::format("{} entries, {} decoded", entries, human_size(decoded));
  if (const auto safe = check_places(*ramdisk); !safe) part.detail += "; " + safe.error().message;
  const auto journal = read_journal(*ramdisk);
  if (!journal) {
    info.origin_reason = journal.error().message;
  } else if (*journal) {
    info.origin = "journaled";
    info.origin_reason =
        fmt::format("patched by Wexlo; the stock image was {} bytes with SHA-256 {}",
                    (*journal)->stock_size, (*journal)->stock_sha256);
    for (const JournalEdit& edit : (*journal)->edits)
      info.journal.push_back(fmt::format("{}: {}", edit.recipe, edit.summary));
  }
}

/// One digest that an image carries of itself.
struct OwnDigest {
  std::optional<bool> matches;
  std::string_view what;
};

void judge_origin(ImageInfo& info) {
  if (!info.origin.empty()) return;
  info.origin = "unknown";
  if (!info.origin_reason.empty()) return;
  const OwnDigest digests[] = {
      {info.footer ? info.footer->digest_matches : std::nullopt,
       "the digest in its verified-boot footer"},
      {info.vbmeta ? info.vbmeta->hash_matches : std::nullopt,
       "the hash that its signature covers"},
      {info.id_matches, "the id digest in its header"},
  };
  info.origin_reason = "it carries no digest of its own";
  for (const OwnDigest& digest : digests) {
    if (!digest.matches) continue;
    info.origin = *digest.matches ? "pristine" : "unknown";
    info.origin_reason = fmt::format("{} {}", digest.what,
                                     *digest.matches ? "is true" : "does not match its content");
    if (!*digest.matches) return;  // one that is wrong outweighs others that are right
  }
}

Result<ImageInfo> image_info(const LoadedImage& loaded) {
  const Image& image = *loaded.image;
  const auto os = boot::os_version(image);
  ImageInfo info{.partition_kind = std::string(boot::partition_kind(image)),
                 .header_version = image.layout().version,
                 .page_size = image.kind() == "vbmeta" ? 0 : image.page(),
                 .os_version = os.version,
                 .patch_level = os.patch_level,
                 .cmdline = boot::cmdline(image),
                 .id_matches = boot::id_matches(image),
                 .tail_size = image.tail().size()};
  for (const Section& section : image.sections()) {
    if (section.bytes.empty()) continue;
    PartInfo part{.name = section.name,
                  .offset = section.offset,
                  .size = section.bytes.size(),
                  .compression = "none",
                  .sha256 = sha256_hex(section.bytes.view())};
    if (const auto kind = detect_compression(section.bytes.view()))
      part.compression = compression_name(*kind);
    if (section.name == boot::ramdisk_section(image)) tell_ramdisk(part, section, info);
    info.parts.push_back(std::move(part));
  }
  if (image.kind() == "vbmeta") {
    WEXLO_TRY(info.vbmeta, vbmeta_info(image));
  } else {
    WEXLO_TRY(info.footer, footer_info(loaded.bytes.view()));
  }
  judge_origin(info);
  return info;
}

/// A folder: one of Wexlo's own, or any that holds images.
Inspection inspect_folder(const fs::path& path) {
  std::error_code ignored;
  Inspection out{.path = path.string(), .kind = "folder"};
  fs::path images = path;
  if (fs::exists(path / parts::kManifest, ignored)) out.kind = "parts";
  if (fs::exists(path / kKitManifest, ignored)) {
    out.kind = "kit";
    images = path / "flash";
  }
  out.layers.push_back({out.kind, ""});
  for (const auto& entry : fs::directory_iterator(images, ignored)) {
    if (!entry.is_regular_file(ignored) || entry.path().extension() != ".img") continue;
    const std::uint64_t size = entry.file_size(ignored);
    out.partitions.push_back(
        {.name = entry.path().stem().string(), .size = size, .stored_size = size});
  }
  std::ranges::sort(out.partitions, {}, &PartitionFacts::name);
  return out;
}

}  // namespace

Result<Inspection> inspect(const fs::path& path) {
  std::error_code ignored;
  if (fs::is_directory(path, ignored)) return inspect_folder(path);
  WEXLO_TRY(const SourcePtr source, open_file(path));
  WEXLO_TRY(const Format* format, identify(*source));
  Inspection out{.path = path.string(), .kind = std::string(format->kind), .size = source->size()};
  if (format->open_firmware != nullptr) {
    WEXLO_TRY(const auto firmware, format->open_firmware(source));
    out.layers = firmware->layers();
    out.partitions = firmware->partitions();
    out.build = firmware->build();
    out.incremental = firmware->incremental();
    return out;
  }
  out.layers.push_back({out.kind, ""});
  if (format->parse_image == nullptr) return out;
  WEXLO_TRY(const LoadedImage loaded, load_image(*source));
  auto info = image_info(loaded);
  if (!info) return fail(in_file(std::move(info).error(), path.string()));
  out.image = std::move(*info);
  out.kind = out.image->partition_kind;
  out.layers.front().kind = out.kind;
  return out;
}

}  // namespace wexlo
