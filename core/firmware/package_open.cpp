/// What holds a bundle: zips, tars, folders, and several packages together.

#include <fmt/format.h>

#include <algorithm>

#include "archive/zip.hpp"
#include "firmware/package.hpp"

namespace wexlo {

Result<FirmwarePtr> open_zip(const SourcePtr& source, const Opening& opening) {
  WEXLO_TRY(const auto zip, ZipArchive::open(source));
  return open_package(bundle_of(zip, source->name()),
                      {"zip", fmt::format("{} members", zip->members().size())}, opening);
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
    out->incremental |= part->incremental;
  }
  return out;
}

}  // namespace wexlo
