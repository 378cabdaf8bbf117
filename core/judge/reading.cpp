#include "judge/reading.hpp"

#include "base/digest.hpp"
#include "base/error_kinds.hpp"
#include "image/boot.hpp"

namespace wexlo {

std::optional<Blob> ImageReading::find(std::string_view place) const {
  for (auto at = ramdisks.rbegin(); at != ramdisks.rend(); ++at) {
    if (!at->ramdisk) continue;
    if (const auto entry = find_entry(*at->ramdisk, place)) return content_of(*at->ramdisk, *entry);
  }
  return std::nullopt;
}

std::vector<PermissiveWord> permissive_in(const Image& image, const ImageReading& reading) {
  std::vector<PermissiveWord> out;
  const auto take = [&out](std::vector<PermissiveWord> words) {
    for (PermissiveWord& word : words)
      out.push_back(std::move(word));
  };
  take(permissive_words(boot::cmdline(image), "cmdline"));
  take(permissive_words(boot::bootconfig(image), "bootconfig"));
  for (const ReadRamdisk& one : reading.ramdisks)
    if (one.ramdisk) take(permissive_properties(*one.ramdisk));
  for (const ReadTrees& trees : reading.trees)
    for (const dt::DtBlob& blob : trees.blobs)
      take(permissive_words(blob.facts.bootargs, "device tree /chosen"));
  return out;
}

Result<ImageReading> read_ramdisks(const LoadedImage& image, const Context& context) {
  ImageReading out;
  WEXLO_TRY(const ReadRamdisks ramdisks, image.decoded->ramdisks(context));
  out.ramdisks = *ramdisks;
  return out;
}

Result<ImageReading> read_deep(const LoadedImage& loaded, const Context& context, Digests digests) {
  ImageReading out;
  const Image& image = *loaded.image;
  out.sha256.resize(image.sections().size());
  TaskGroup tasks(context);
  tasks.submit(0, [&]() -> Status {
    WEXLO_TRY(const ReadRamdisks ramdisks, loaded.decoded->ramdisks(context));
    out.ramdisks = *ramdisks;
    return {};
  });
  tasks.submit(0, [&]() -> Status {
    WEXLO_TRY(const ReadKernel kernel, loaded.decoded->kernel(context));
    if (kernel) out.kernel = *kernel;
    return {};
  });
  for (std::size_t i = 0; i < image.sections().size(); ++i) {
    if (image.sections()[i].bytes.empty() || digests == Digests::Left) continue;
    tasks.submit(0, [&sum = out.sha256[i], bytes = image.sections()[i].bytes]() -> Status {
      sum = sha256_hex(bytes.view());
      return {};
    });
  }
  WEXLO_CHECK(tasks.wait());
  for (const Section& one : image.sections()) {
    const bool kernel = one.name == "kernel" && out.kernel;
    const bool table = image.kind() == "dt-table";
    // A table as an image of its own: its entries lie behind the header that names them.
    const Blob place = table ? dt::whole_table(image) : kernel ? out.kernel->trees : one.bytes;
    std::uint64_t offset = table ? image.prefix().size() : one.offset;
    if (kernel) offset += out.kernel->trees_at;
    const dt::Form form = dt::form_of(place.view());
    if (form != dt::Form::None) out.trees.push_back({one.name, form, offset, dt::blobs(place)});
  }
  return out;
}

}  // namespace wexlo
