/// What holds a bundle: zips, tars, folders, and several packages together.

#include <fmt/format.h>

#include <algorithm>

#include "archive/zip.hpp"
#include "firmware/build_names.hpp"
#include "firmware/file_names.hpp"
#include "firmware/named_kinds.hpp"
#include "firmware/package.hpp"
#include "text/text.hpp"

namespace wexlo {

namespace {

/// What shows that a tar is for download mode; empty: nothing does.
std::string_view download_sign(const Bundle& tar, bool sum_line) {
  if (sum_line) return "its last line is its sum";
  if (ends_as(tar.name, ".tar.md5")) return "its name says so";
  // Other tars hold images as they are.
  const auto packed = [](const Item& item) {
    const FileName file = read_file_name(item.path);
    return item.path.ends_with(".img.lz4") &&
           partition_class(without_slot(file.partition)) != PartitionClass::Other;
  };
  return std::ranges::any_of(tar.items, packed) ? "its images are packed as in those"
                                                : std::string_view();
}

}  // namespace

Result<FirmwarePtr> open_zip(const SourcePtr& source, const Opening& opening) {
  WEXLO_TRY(const auto zip, ZipArchive::open(source));
  const Bundle bundle = bundle_of(zip, source->name());
  if (const NamedKind* kind = named_bundle(bundle)) return fail(named_error(*kind, bundle.name));
  return open_package(bundle, {"zip", fmt::format("{} members", zip->members().size())}, opening);
}

Result<FirmwarePtr> open_tar_package(const SourcePtr& source, const Opening& opening) {
  WEXLO_TRY(const Tar tar, open_tar(source, opening.context));
  WEXLO_TRY(const auto line, find_sum_line(*source));
  const std::string detail =
      fmt::format("{} members{}", tar.members, line ? ", with a sum line" : "");
  WEXLO_TRY(FirmwarePtr out, open_package(tar.bundle, {"tar", detail}, opening));
  if (line) {
    const auto sum = std::make_shared<const PackageSum>(PackageSum{source, *line});
    for (PartitionFacts& one : out->partitions)
      one.sum = sum;
  }
  if (const std::string_view why = download_sign(tar.bundle, line.has_value()); !why.empty())
    out->signs.download =
        fmt::format("{} is a download-mode package: {}", base_name(source->name()), why);
  if (const auto name = read_build_name(source->name())) {
    if (out->build.incremental.empty()) out->build.incremental = name->build;
    out->build.model = name->model;
    out->build.binary = name->binary;
  }
  if (!line && source->name().ends_with(".md5"))
    out->note(FindingCode::NoSumLine,
              fmt::format("{} is named as if its last line were its sum, and it "
                          "has none: the download may be cut short.",
                          base_name(source->name())));
  return out;
}

Result<FirmwarePtr> open_folder(const std::filesystem::path& folder, const Opening& opening) {
  WEXLO_TRY(const Bundle bundle, bundle_of_folder(folder));
  return open_package(bundle, {"folder", fmt::format("{} files", bundle.items.size())}, opening);
}

Result<FirmwarePtr> merge(std::vector<FirmwarePtr> parts, Layer layer) {
  auto out = std::make_unique<Firmware>();
  out->kind = layer.kind;
  out->layers.push_back(std::move(layer));
  for (FirmwarePtr& part : parts) {
    out->layers.insert(out->layers.end(), part->layers.begin(), part->layers.end());
    std::ranges::move(part->partitions, std::back_inserter(out->partitions));
    std::ranges::move(part->groups, std::back_inserter(out->groups));
    std::ranges::move(part->notes, std::back_inserter(out->notes));
    out->build.merge(part->build);
    out->signs.merge(part->signs);
    std::ranges::move(part->aside, std::back_inserter(out->aside));
    out->incremental |= part->incremental;
  }
  return out;
}

}  // namespace wexlo
