#include <fmt/format.h>

#include "base/digest.hpp"
#include "base/text.hpp"
#include "image/boot.hpp"
#include "parts/fields.hpp"
#include "parts/parts.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo::parts {
namespace fs = std::filesystem;
namespace {

/// Writes parts.toml's text and the files beside it.
class Unpacker {
 public:
  Unpacker(const LoadedImage& loaded, fs::path folder)
      : loaded_(loaded), folder_(std::move(folder)) {
    result_.kind = loaded.image ? boot::partition_kind(*loaded.image) : loaded.format->kind;
  }

  Result<Unpacked> run() {
    text_ = fmt::format(
        "# Edit the files, tree/ or the values below [header], then run: wexlo repack\n"
        "format = 1\nkind = \"{}\"\nimage_size = {}\nimage_sha256 = \"{}\"\n",
        result_.kind, loaded_.bytes.size(), sha256_hex(loaded_.bytes.view()));
    if (loaded_.image) {
      WEXLO_CHECK(write_image(*loaded_.image));
    } else {
      WEXLO_CHECK(save("image.bin", loaded_.bytes.view()));
      begin_part({.name = "image",
                  .file = "image.bin",
                  .size = loaded_.bytes.size(),
                  .note = "this kind of image is kept whole"},
                 loaded_.bytes.view());
    }
    WEXLO_CHECK(save(kManifest, as_view(text_)));
    return std::move(result_);
  }

 private:
  Status save(std::string_view name, View bytes) { return write_new(folder_ / name, bytes); }

  void begin_part(PartRow row, View bytes) {
    text_ += fmt::format("\n[[part]]\nname = \"{}\"\nfile = \"{}\"\nsize = {}\nsha256 = \"{}\"\n",
                         row.name, row.file, row.size, sha256_hex(bytes));
    result_.parts.push_back(std::move(row));
  }

  /// Bytes that are mostly zeros are described, others kept in a file.
  Status keep(std::string_view key, View bytes, const std::string& file) {
    if (all_bytes(bytes, std::byte{0})) {
      text_ += fmt::format("{}_zeros = {}\n", key, bytes.size());
      return {};
    }
    text_ += fmt::format("{} = \"{}\"\n", key, file);
    return save(file, bytes);
  }

  Status write_image(const Image& image) {
    text_ +=
        fmt::format("header_version = {}\nheader_file = \"header.bin\"\nheader_sha256 = \"{}\"\n",
                    image.layout().version, sha256_hex(image.header()));
    if (const auto recipe = boot::id_recipe(image))
      text_ += fmt::format("id_digest = \"{}\"\n", *recipe == DigestKind::Sha1 ? "sha1" : "sha256");
    WEXLO_CHECK(keep("tail", image.tail().view(), "tail.bin"));
    WEXLO_CHECK(save("header.bin", image.header()));
    text_ += "\n[header]\n" + format_fields(editable_fields(image));
    for (const Section& section : image.sections())
      WEXLO_CHECK(write_section(image, section));
    return {};
  }

  Status write_section(const Image& image, const Section& section) {
    if (section.bytes.empty() && section.padding.empty()) return {};
    PartRow row{.name = section.name, .file = section.name + ".bin", .size = section.bytes.size()};
    WEXLO_CHECK(save(row.file, section.bytes.view()));
    std::optional<Ramdisk> ramdisk;
    if (section.name == boot::ramdisk_section(image)) {
      auto parsed = parse_ramdisk(section.bytes);
      if (parsed) {
        ramdisk = std::move(*parsed);
        row.compression = compression_name(ramdisk->compression());
        row.tree = "tree";
      } else if (parsed.error().code == ErrorCode::Unsupported) {
        row.note = parsed.error().message;
      } else {
        Error error = at_base(std::move(parsed).error(), section.offset);
        return fail(std::move(error));
      }
    } else if (section.name == "vendor_ramdisk") {
      row.note = "several fragments: kept whole";
    }
    begin_part(row, section.bytes.view());
    WEXLO_CHECK(keep("padding", section.padding.view(), section.name + ".padding"));
    if (!ramdisk) return {};
    text_ += fmt::format("compression = \"{}\"\ntree = \"tree\"\nlist = \"tree.list\"\n",
                         row.compression);
    return write_tree(*ramdisk, {folder_ / "tree", folder_ / "tree.odd", folder_ / "tree.list"});
  }

  const LoadedImage& loaded_;
  fs::path folder_;
  std::string text_;
  Unpacked result_;
};

}  // namespace

Result<Unpacked> unpack(const LoadedImage& image, const fs::path& folder, Overwrite overwrite) {
  WEXLO_TRY(OutputFolder out, OutputFolder::create(folder, overwrite, std::string(kManifest)));
  auto unpacked = Unpacker(image, out.path()).run();
  if (!unpacked) return fail(out.with_final_name(std::move(unpacked).error()));
  WEXLO_CHECK(out.commit());
  return unpacked;
}

}  // namespace wexlo::parts
