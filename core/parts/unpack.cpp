#include <fmt/format.h>

#include <algorithm>
#include <deque>
#include <set>

#include "base/digest.hpp"
#include "image/boot.hpp"
#include "image/fragments.hpp"
#include "image/kernel.hpp"
#include "parts/fields.hpp"
#include "parts/parts.hpp"
#include "text/text.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo::parts {
namespace fs = std::filesystem;
namespace {

constexpr std::string_view kPlainKernel = "kernel.image";

/// A name that any file system takes, and that is a plain one.
std::string file_name(std::string_view name) {
  std::string out;
  for (const char c : name) {
    const bool plain = std::isalnum(static_cast<unsigned char>(c)) || c == '_' || c == '-';
    out += plain ? c : '_';
  }
  return out;
}

/// Writes the files of a parts folder; the text of parts.toml is put together at the end, when the
/// digests, which are computed beside, are there.
class Unpacker {
 public:
  Unpacker(const LoadedImage& loaded, fs::path folder, const Context& context)
      : loaded_(loaded), folder_(std::move(folder)), context_(context), digests_(context) {
    result_.kind = loaded.image ? boot::partition_kind(*loaded.image) : loaded.format->kind;
  }

  Result<Unpacked> run() {
    text_ = fmt::format(
        "# Edit the files, tree/ or the values below [header], then run: wexlo repack\n"
        "format = 1\nkind = \"{}\"\nimage_size = {}\n",
        result_.kind, loaded_.bytes.size());
    digest_line("image_sha256", loaded_.bytes.view());
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
    WEXLO_CHECK(digests_.wait());
    for (auto at = pending_.rbegin(); at != pending_.rend(); ++at)
      text_.insert(at->place, at->hex);
    WEXLO_CHECK(save(kManifest, as_view(text_)));
    return std::move(result_);
  }

 private:
  struct Pending {
    std::size_t place;  ///< in the text
    std::string hex;
  };

  void digest_line(std::string_view key, View bytes) {
    text_ += fmt::format("{} = \"", key);
    Pending& pending = pending_.emplace_back(text_.size(), "");
    text_ += "\"\n";
    digests_.submit(0, [&pending, bytes]() -> Status {
      pending.hex = sha256_hex(bytes);
      return {};
    });
  }

  Status save(std::string_view name, View bytes) { return write_new(folder_ / name, bytes); }

  void begin_part(PartRow row, View bytes) {
    text_ += fmt::format("\n[[part]]\nname = \"{}\"\nfile = \"{}\"\nsize = {}\n", row.name,
                         row.file, row.size);
    digest_line("sha256", bytes);
    result_.parts.push_back(std::move(row));
  }

  /// Bytes that are mostly zeros are described, others kept in a file.
  Status keep(std::string_view key, View bytes, const std::string& file) {
    if (all_bytes(bytes, std::byte{0})) {
      text_ += fmt::format("{}_zeros = {}\n", key, bytes.size());
      return {};
    }
    text_ += fmt::format("{} = \"{}\"\n", key, file);
    digest_line(fmt::format("{}_sha256", key), bytes);
    return save(file, bytes);
  }

  Status write_image(const Image& image) {
    text_ +=
        fmt::format("header_version = {}\nheader_file = \"header.bin\"\n", image.layout().version);
    digest_line("header_sha256", image.header());
    if (const auto recipe = boot::id_recipe(image))
      text_ += fmt::format("id_digest = \"{}\"\n", *recipe == DigestKind::Sha1 ? "sha1" : "sha256");
    if (!image.prefix().empty()) {
      text_ += fmt::format("prefix_kind = \"{}\"\n", prefix::kind_of(image.prefix().view()));
      WEXLO_CHECK(keep("prefix", image.prefix().view(), "prefix.bin"));
    }
    WEXLO_CHECK(keep("tail", image.tail().view(), "tail.bin"));
    WEXLO_CHECK(save("header.bin", image.header()));
    text_ += "\n[header]\n" + format_fields(editable_fields(image));
    for (const Section& section : image.sections())
      WEXLO_CHECK(write_section(image, section));
    return {};
  }

  Status write_section(const Image& image, const Section& section) {
    if (section.bytes.empty() && section.padding.empty()) return {};
    PartRow row{.name = section.name,
                .file = section.name + (section.name == "bootconfig" ? ".txt" : ".bin"),
                .size = section.bytes.size()};
    WEXLO_CHECK(save(row.file, section.bytes.view()));
    begin_part(row, section.bytes.view());
    WEXLO_CHECK(keep("padding", section.padding.view(), section.name + ".padding"));
    for (const boot::RamdiskPart& part : boot::ramdisk_parts(image))
      if (part.section == section.name) WEXLO_CHECK(write_ramdisk(part));
    if (section.name == "kernel") return write_kernel(section);
    const bool table = image.kind() == "dt-table";
    return write_trees(section.name, dt::blobs(table ? dt::whole_table(image) : section.bytes));
  }

  /// `tree`, or for a fragment with a name `tree.NAME`; a name that is taken gets the number too.
  std::string tree_name(const boot::RamdiskPart& part) {
    std::string name = "tree";
    if (!part.name.empty()) name += "." + file_name(part.name);
    if (name.ends_with(".odd") || name.ends_with(".list") || trees_.contains(name))
      name += fmt::format(".{}", part.index);
    trees_.insert(name);
    return name;
  }

  Status write_ramdisk(const boot::RamdiskPart& part) {
    if (part.in_table) {
      std::string board;
      for (const std::uint32_t word : part.board_id)
        board += fmt::format("{}{}", board.empty() ? "" : ", ", word);
      const bool any = std::ranges::any_of(part.board_id, [](std::uint32_t w) { return w != 0; });
      text_ +=
          fmt::format("\n[[part.fragment]]\nname = {}\ntype = \"{}\"\nboard_id = [{}]\n",
                      toml_quote(is_ascii(part.name) ? part.name : "%" + percent_encode(part.name)),
                      boot::ramdisk_type_name(part.type), any ? board : "");
    }
    PartRow& whole = result_.parts.back();
    auto ramdisk = parse_ramdisk(part.bytes, decode_limit(context_));
    PartRow row{.name = part.title(), .file = whole.file, .size = part.bytes.size()};
    if (!ramdisk) {
      const ErrorCode code = ramdisk.error().code;
      // Of no kind that is known: carried. Of a known one, but damaged: refused.
      if (code != ErrorCode::Unsupported && code != ErrorCode::BadMagic)
        return fail(at_base(std::move(ramdisk).error(), part.offset + part.header.size()));
      row.note = ramdisk.error().message;
    } else {
      row.compression = compression_name(ramdisk->compression());
      row.tree = tree_name(part);
      WEXLO_CHECK(describe(*ramdisk, row));
    }
    if (part.in_table)
      result_.parts.push_back(std::move(row));
    else
      whole = std::move(row);
    return {};
  }

  Status describe(const Ramdisk& ramdisk, const PartRow& row) {
    std::string settings, proofs;
    for (const RamdiskSegment& segment : ramdisk.segments) {
      const Setting found = stock_setting(segment, context_);
      const std::string_view comma = settings.empty() ? "" : ", ";
      settings += fmt::format("{}\"{}\"", comma, setting_text(segment.compression, found.framing));
      proofs += fmt::format("{}\"{}\"", comma, proof_name(found.proof));
    }
    text_ += fmt::format(
        "compression = \"{}\"\nencoder = [{}]\nencoder_proof = [{}]\n"
        "tree = \"{}\"\nlist = \"{}.list\"\n",
        row.compression, settings, proofs, row.tree, row.tree);
    return write_tree(ramdisk, {folder_ / row.tree, folder_ / (row.tree + ".odd"),
                                folder_ / (row.tree + ".list")});
  }

  Status write_kernel(const Section& section) {
    const auto kernel = kernel::read(section.bytes, decode_limit(context_));
    text_ += fmt::format("form = \"{}\"\ncompression = \"{}\"\n", kernel.form, kernel.compression);
    if (!kernel.banner.empty()) text_ += "banner = " + toml_quote(printable(kernel.banner)) + "\n";
    result_.parts.back().compression = kernel.compression;
    WEXLO_CHECK(write_plain_kernel(section));
    if (!kernel.config.empty()) {
      WEXLO_CHECK(save("kernel.config", as_view(kernel.config)));
      result_.parts.push_back({.name = "kernel.config",
                               .file = "kernel.config",
                               .size = kernel.config.size(),
                               .note = "the configuration it was built with, to read"});
    }
    if (kernel.trees.empty()) return {};
    text_ += fmt::format("trees_at = {}\n", kernel.trees_at);
    return write_trees("kernel", dt::blobs(kernel.trees));
  }

  /// The kernel as it runs, to be looked into and changed.
  Status write_plain_kernel(const Section& section) {
    auto body = kernel::open_body(section.bytes, decode_limit(context_));
    if (!body || !kernel::is_within(*body, section.bytes)) return {};
    plain_kernel_ = std::move(body->decoded);
    WEXLO_CHECK(save(kPlainKernel, plain_kernel_.view()));
    text_ += fmt::format("image = \"{}\"\n", kPlainKernel);
    digest_line("image_sha256", plain_kernel_.view());
    result_.parts.push_back({.name = std::string(kPlainKernel),
                             .file = std::string(kPlainKernel),
                             .size = plain_kernel_.size(),
                             .note = "the kernel as it runs: packed again when it is changed"});
    return {};
  }

  Status write_trees(const std::string& section, const std::vector<dt::DtBlob>& trees) {
    for (std::size_t i = 0; i < trees.size(); ++i) {
      const dt::DtBlob& tree = trees[i];
      if (tree.fdt.empty()) continue;
      const std::string file = fmt::format("{}-tree-{}.dtb", section, i);
      WEXLO_CHECK(save(file, tree.fdt.view()));
      text_ += fmt::format("\n[[part.dtb]]\nindex = {}\nfile = \"{}\"\nmodel = {}\n", i, file,
                           toml_quote(printable(tree.facts.model)));
      digest_line("sha256", tree.fdt.view());
      std::string note = tree.facts.model;
      for (const std::string& one : tree.facts.compatible)
        note += (note.empty() ? "" : ", ") + one;
      for (const std::string& entry : tree.entries)
        note += fmt::format(" [{}]", entry);
      result_.parts.push_back({.name = fmt::format("{}.{:02}", section, i),
                               .file = file,
                               .size = tree.fdt.size(),
                               .compression = tree.compression == "none" ? "" : tree.compression,
                               .label = note});
    }
    // The digests are taken while this function's trees are gone: keep them.
    kept_.push_back(trees);
    return {};
  }

  const LoadedImage& loaded_;
  fs::path folder_;
  const Context& context_;
  std::string text_;
  Unpacked result_;
  std::set<std::string> trees_;
  std::vector<std::vector<dt::DtBlob>> kept_;
  Blob plain_kernel_;
  std::deque<Pending> pending_;
  TaskGroup digests_;  ///< last: it waits for its tasks before what they use is gone
};

}  // namespace

Result<Unpacked> unpack(const LoadedImage& image, const fs::path& folder, Overwrite overwrite,
                        const Context& context) {
  WEXLO_TRY(OutputFolder out, OutputFolder::create(folder, overwrite, std::string(kManifest)));
  auto unpacked = Unpacker(image, out.path(), context).run();
  if (!unpacked) return fail(out.with_final_name(std::move(unpacked).error()));
  WEXLO_CHECK(out.commit());
  return unpacked;
}

}  // namespace wexlo::parts
