#include <fmt/format.h>

#include <algorithm>

#include "base/digest.hpp"
#include "base/toml_read.hpp"
#include "image/boot.hpp"
#include "parts/fields.hpp"
#include "parts/parts.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo::parts {
namespace fs = std::filesystem;
namespace {

constexpr std::int64_t kFormat = 1;

Result<Blob> read_file(const fs::path& path) {
  WEXLO_TRY(const SourcePtr source, open_file(path));
  return read_all(*source, kMaxImage);
}

/// A part as parts.toml describes it, with the bytes its file has now.
struct Part {
  std::string name, sha256;
  std::uint64_t stock_size = 0;
  Blob bytes, padding;
  std::string tree, list;
  [[nodiscard]] bool changed() const { return sha256_hex(bytes.view()) != sha256; }
};

class Repacker {
 public:
  explicit Repacker(fs::path folder)
      : folder_(std::move(folder)), file_((folder_ / kManifest).string()) {}

  Result<Repacked> run() {
    WEXLO_CHECK(read_manifest());
    if (!manifest_.contains("header_file")) return whole();
    WEXLO_TRY(Image image, stock_image());
    WEXLO_CHECK(set_header(image));
    for (const Part& part : parts_)
      WEXLO_CHECK(set_part(image, part));
    WEXLO_TRY(out_.bytes, finish(std::move(image)));
    return std::move(out_);
  }

 private:
  Status read_manifest() {
    WEXLO_TRY(manifest_, read_toml(folder_ / kManifest));
    WEXLO_TRY(const auto format, toml_get<std::int64_t>(manifest_, "format", file_));
    if (format != kFormat)
      return fail({.code = ErrorCode::Unsupported,
                   .message = "a parts folder of another format",
                   .file = file_,
                   .expected = fmt::format("{}", kFormat),
                   .found = fmt::format("{}", format),
                   .hint = "Unpack the image again with this version."});
    WEXLO_TRY(image_sha256_, toml_get<std::string>(manifest_, "image_sha256", file_));
    const toml::array* rows = manifest_["part"].as_array();
    if (rows == nullptr) return {};  // a header alone: every section is empty
    for (const toml::node& row : *rows) {
      if (!row.is_table()) return fail(toml_error(row, "part is not a table", file_));
      WEXLO_TRY(Part part, read_part(*row.as_table()));
      parts_.push_back(std::move(part));
    }
    return {};
  }

  /// A file of the folder; a name with a path in it is not followed.
  Result<Blob> member(const toml::table& table, std::string_view key) {
    WEXLO_TRY(const auto name, toml_get<std::string>(table, key, file_));
    if (fs::path(name).filename() != name || name == "..")
      return fail(toml_error(table, fmt::format("{} has to be a plain file name", key), file_));
    return read_file(folder_ / name);
  }

  Result<Part> read_part(const toml::table& row) {
    Part part;
    WEXLO_TRY(part.name, toml_get<std::string>(row, "name", file_));
    WEXLO_TRY(part.sha256, toml_get<std::string>(row, "sha256", file_));
    WEXLO_TRY(const auto size, toml_get<std::int64_t>(row, "size", file_));
    if (size < 0 || static_cast<std::uint64_t>(size) > kMaxImage)
      return fail(toml_error(row, "size is out of range", file_));
    part.stock_size = static_cast<std::uint64_t>(size);
    WEXLO_TRY(part.bytes, member(row, "file"));
    WEXLO_TRY(part.padding, filler(row, "padding"));
    WEXLO_TRY(part.tree, toml_get_or<std::string>(row, "tree", "", file_));
    WEXLO_TRY(part.list, toml_get_or<std::string>(row, "list", "", file_));
    return part;
  }

  /// Bytes that are described as zeros, or kept in a file; none when neither is said.
  Result<Blob> filler(const toml::table& table, const std::string& key) {
    if (table.contains(key)) return member(table, key);
    WEXLO_TRY(const auto zeros, toml_get_or<std::int64_t>(table, key + "_zeros", 0, file_));
    if (zeros < 0 || static_cast<std::uint64_t>(zeros) > kMaxImage)
      return fail(toml_error(table, key + "_zeros is out of range", file_));
    return Blob(Bytes(static_cast<std::size_t>(zeros)));
  }

  /// An image kept whole: the file is the image.
  Result<Repacked> whole() {
    if (parts_.size() != 1) return fail(toml_error(manifest_, "one part was expected", file_));
    out_.bytes = to_bytes(parts_.front().bytes.view());
    if (parts_.front().changed()) out_.changes.push_back({"image", "content", "", "other bytes"});
    return std::move(out_);
  }

  /// The stock image again, but for the content of parts that were edited: there, zeros stand.
  /// Their sizes are the stock ones, so that the header fits.
  Result<Image> stock_image() {
    WEXLO_TRY(const Blob header, member(manifest_, "header_file"));
    WEXLO_TRY(const auto digest, toml_get<std::string>(manifest_, "header_sha256", file_));
    if (sha256_hex(header.view()) != digest)
      return fail({.code = ErrorCode::DigestMismatch,
                   .message = "the stored header is not the one that was unpacked",
                   .file = (folder_ / "header.bin").string(),
                   .expected = digest,
                   .found = sha256_hex(header.view()),
                   .hint = "Edit the values below [header] in parts.toml instead."});
    WEXLO_TRY(const Blob tail, filler(manifest_, "tail"));
    Bytes bytes = to_bytes(header.view());
    for (const Part& part : parts_) {
      if (part.bytes.size() == part.stock_size && !part.changed())
        append(bytes, part.bytes.view());
      else
        bytes.resize(bytes.size() + part.stock_size);
      append(bytes, part.padding.view());
    }
    append(bytes, tail.view());
    WEXLO_TRY(LoadedImage loaded, load_image(Blob(std::move(bytes)), folder_.string()));
    if (!loaded.image)
      return fail(toml_error(manifest_, "header.bin is not that of such an image", file_));
    stock_bytes_ = loaded.bytes;
    return std::move(*loaded.image);
  }

  Status set_header(Image& image) {
    const toml::table* table = manifest_["header"].as_table();
    if (table == nullptr) return fail(toml_error(manifest_, "[header] is missing", file_));
    const auto stock = editable_fields(image);
    for (const auto& [key, node] : *table) {
      FieldText field{.name = std::string(key.str())};
      if (const auto number = node.value_exact<std::int64_t>())
        field.value = number < 0 ? "" : fmt::format("{}", *number);
      else if (const auto text = node.value_exact<std::string>())
        field.value = *text;
      const auto old = std::ranges::find(stock, field.name, &FieldText::name);
      if (old != stock.end() && same_value(*old, field)) continue;
      if (auto set = set_field(image, field); !set) {
        Error error = toml_error(node, set.error().message, file_);
        error.expected = set.error().expected;
        error.found = field.value;
        return fail(std::move(error));
      }
      out_.changes.push_back(
          {"header", "field", field.name,
           fmt::format("{} -> {}", old == stock.end() ? "" : old->value, field.value)});
    }
    return {};
  }

  /// Addresses are written in hex and read back as numbers.
  static bool same_value(const FieldText& old, const FieldText& now) {
    if (old.value == now.value) return true;
    return old.number && old.value.starts_with("0x") && !now.value.empty() &&
           std::ranges::all_of(now.value, [](unsigned char c) { return std::isdigit(c); }) &&
           hex_value(std::stoull(now.value)) == old.value;
  }

  Status set_part(Image& image, const Part& part) {
    if (image.section(part.name) == nullptr)
      return fail(toml_error(manifest_, "no such part in this image: " + part.name, file_));
    if (!part.tree.empty()) return set_ramdisk(image, part);
    if (!part.changed()) return {};
    out_.changes.push_back({part.name, "content", "",
                            fmt::format("{} -> {} bytes", part.stock_size, part.bytes.size())});
    return image.replace(part.name, part.bytes);
  }

  Status set_ramdisk(Image& image, const Part& part) {
    if (part.changed())
      return fail({.code = ErrorCode::DigestMismatch,
                   .message = "the stored ramdisk is not the one that was unpacked",
                   .file = (folder_ / (part.name + ".bin")).string(),
                   .expected = part.sha256,
                   .found = sha256_hex(part.bytes.view()),
                   .hint =
                       "Edit the tree; to put in a whole other ramdisk, take the lines tree and "
                       "list out of parts.toml."});
    WEXLO_TRY(Ramdisk ramdisk, parse_ramdisk(part.bytes));
    const TreePaths paths{folder_ / fs::path(part.tree).filename(),
                          folder_ / (fs::path(part.tree).filename().string() + ".odd"),
                          folder_ / fs::path(part.list).filename()};
    WEXLO_TRY(const auto changes, apply_tree(ramdisk, paths));
    if (changes.empty()) return {};
    for (const TreeChange& change : changes)
      out_.changes.push_back({part.name, change.what, change.place, change.detail});
    WEXLO_TRY(Bytes encoded, encode_ramdisk(ramdisk));
    return image.replace(part.name, Blob(std::move(encoded)));
  }

  Result<Bytes> finish(Image image) {
    if (out_.changes.empty()) {
      if (sha256_hex(stock_bytes_.view()) == image_sha256_) return to_bytes(stock_bytes_.view());
      return fail({.code = ErrorCode::DigestMismatch,
                   .message = "the parts do not give the image that was unpacked, and nothing was "
                              "edited",
                   .file = file_,
                   .expected = image_sha256_,
                   .found = sha256_hex(stock_bytes_.view()),
                   .hint = "A padding or tail file was changed: unpack the image again."});
    }
    WEXLO_TRY(const auto id, toml_get_or<std::string>(manifest_, "id_digest", "", file_));
    const auto recipe = id == "sha1"     ? std::optional(DigestKind::Sha1)
                        : id == "sha256" ? std::optional(DigestKind::Sha256)
                                         : std::nullopt;
    WEXLO_CHECK(boot::refresh(image, recipe));
    WEXLO_TRY(out_.notes, verified::rebuild_tail(image, stock_bytes_.view()));
    return image.write();
  }

  fs::path folder_;
  std::string file_, image_sha256_;
  toml::table manifest_;
  std::vector<Part> parts_;
  Blob stock_bytes_;
  Repacked out_;
};

}  // namespace

Result<Repacked> repack(const fs::path& folder) {
  std::error_code ignored;
  if (!fs::exists(folder / kManifest, ignored))
    return fail({.code = fs::exists(folder, ignored) ? ErrorCode::BadMagic : ErrorCode::NotFound,
                 .message = "not a parts folder",
                 .file = folder.string(),
                 .expected = std::string(kManifest) + " in it",
                 .hint = "Make one with: wexlo unpack IMAGE -o PARTS"});
  return Repacker(folder).run();
}

}  // namespace wexlo::parts
