#include "parts/folder.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "image/fragments.hpp"
#include "parts/parts.hpp"
#include "text/text.hpp"
#include "text/toml_read.hpp"

namespace wexlo::parts {
namespace fs = std::filesystem;
namespace {

constexpr std::int64_t kFormat = 1;

/// Reads parts.toml and the files that it names.
class FolderReader {
 public:
  explicit FolderReader(const fs::path& folder) { out_.folder = folder; }

  Result<FolderFacts> run() {
    file_ = out_.file();
    WEXLO_TRY(const toml::table table, read_toml(file_));
    WEXLO_TRY(const auto format, toml_get<std::int64_t>(table, "format", file_));
    if (format != kFormat)
      return fail({.code = ErrorCode::Unsupported,
                   .message = "a parts folder of another format",
                   .file = file_,
                   .expected = fmt::format("{}", kFormat),
                   .found = fmt::format("{}", format),
                   .hint = "Unpack the image again with this version."});
    WEXLO_TRY(out_.image_sha256, toml_get<std::string>(table, "image_sha256", file_));
    out_.has_header = table.contains("header_file");
    if (out_.has_header) WEXLO_CHECK(read_head(table));
    WEXLO_TRY(const auto rows, toml_tables(table, "part", file_));
    for (const toml::table* row : rows) {
      WEXLO_TRY(FolderPart part, read_part(*row));
      out_.parts.push_back(std::move(part));
    }
    return std::move(out_);
  }

 private:
  Status read_head(const toml::table& table) {
    WEXLO_TRY(out_.header, named(table, "header_file"));
    WEXLO_TRY(out_.header_sha256, toml_get<std::string>(table, "header_sha256", file_));
    WEXLO_TRY(out_.prefix, filler(table, "prefix"));
    WEXLO_TRY(out_.tail, filler(table, "tail"));
    WEXLO_TRY(const auto id, toml_get_or<std::string>(table, "id_digest", "", file_));
    if (id == "sha1") out_.id_digest = DigestKind::Sha1;
    if (id == "sha256") out_.id_digest = DigestKind::Sha256;
    if (!id.empty() && !out_.id_digest)
      return fail(toml_error(*table.get("id_digest"), "id_digest is sha1 or sha256", file_));
    const toml::table* fields = table["header"].as_table();
    if (fields == nullptr) return fail(toml_error(table, "[header] is missing", file_));
    for (const auto& [key, node] : *fields) {
      FieldText field{.name = std::string(key.str()), .line = node.source().begin.line};
      if (const auto number = node.value_exact<std::int64_t>(); number && *number >= 0)
        field.value = fmt::format("{}", *number);
      else if (const auto text = node.value_exact<std::string>())
        field.value = *text;
      else
        return fail(
            toml_error(node, fmt::format("{} is a text, or a number from 0 on", key.str()), file_));
      out_.fields.push_back(std::move(field));
    }
    return {};
  }

  Result<Blob> named(const toml::table& table, std::string_view key) {
    WEXLO_TRY(const auto name, toml_get<std::string>(table, key, file_));
    if (fs::path(name).filename() != name || name == "..")
      return fail(toml_error(table, fmt::format("{} has to be a plain file name", key), file_));
    return out_.member(name);
  }

  /// Bytes that are described as zeros, or kept in a file; none when neither is said. What is
  /// edited goes around them, so nothing else would notice that they are others. Folders of earlier
  /// versions have no digest.
  Result<Blob> filler(const toml::table& table, const std::string& key) {
    if (table.contains(key)) {
      WEXLO_TRY(Blob bytes, named(table, key));
      WEXLO_TRY(const auto wanted, toml_get_or<std::string>(table, key + "_sha256", "", file_));
      if (wanted.empty()) return bytes;
      std::string found = sha256_hex(bytes.view());
      if (found == wanted) return bytes;
      return fail({.code = ErrorCode::DigestMismatch,
                   .message = "a file that is no part to be edited was changed",
                   .file = (out_.folder / table[key].value_or(std::string())).string(),
                   .expected = wanted,
                   .found = std::move(found),
                   .hint = "Unpack the image again, and edit the parts alone."});
    }
    WEXLO_TRY(const auto zeros, number(table, key + "_zeros", kMaxImage));
    WEXLO_CHECK(add_to_total(table, key + "_zeros", zeros));
    return Blob(Bytes(static_cast<std::size_t>(zeros)));
  }

  /// What the list describes is one image: no more than that is made room for.
  Status add_to_total(const toml::table& table, const std::string& key, std::uint64_t bytes) {
    total_ += bytes;
    if (total_ <= kMaxImage) return {};
    const toml::node* const node = table.get(key);
    Error error = toml_error(node == nullptr ? table : *node,
                             key + " makes the image larger than any that is unpacked", file_);
    error.expected = fmt::format("at most {} bytes in all", kMaxImage);
    error.found = fmt::format("{} bytes", total_);
    return fail(std::move(error));
  }

  Result<std::uint64_t> number(const toml::table& table, const std::string& key,
                               std::uint64_t most) {
    WEXLO_TRY(const auto value, toml_get_or<std::int64_t>(table, key, 0, file_));
    if (value < 0 || static_cast<std::uint64_t>(value) > most)
      return fail(toml_error(table, key + " is out of range", file_));
    return static_cast<std::uint64_t>(value);
  }

  Result<FolderPart> read_part(const toml::table& row) {
    FolderPart part;
    WEXLO_TRY(part.name, toml_get<std::string>(row, "name", file_));
    WEXLO_TRY(part.file_name, toml_get<std::string>(row, "file", file_));
    WEXLO_TRY(part.sha256, toml_get_or<std::string>(row, "sha256", "", file_));
    WEXLO_TRY(part.stock_size, number(row, "size", kMaxImage));
    WEXLO_CHECK(add_to_total(row, "size", part.stock_size));
    WEXLO_TRY(part.bytes, named(row, "file"));
    WEXLO_TRY(part.padding, filler(row, "padding"));
    WEXLO_TRY(part.trees_at, number(row, "trees_at", part.stock_size));
    WEXLO_TRY(part.plain_file, toml_get_or<std::string>(row, "image", "", file_));
    WEXLO_TRY(part.plain_sha256, toml_get_or<std::string>(row, "image_sha256", "", file_));
    if (row.contains("fragment")) {
      WEXLO_TRY(const auto fragments, toml_tables(row, "fragment", file_));
      for (const toml::table* one : fragments) {
        WEXLO_TRY(FolderTree tree, read_fragment(*one));
        tree.index = part.trees.size();
        part.trees.push_back(std::move(tree));
      }
    } else if (row.contains("tree")) {
      WEXLO_TRY(FolderTree tree, read_tree(row));
      part.trees.push_back(std::move(tree));
    }
    WEXLO_TRY(const auto dtbs, toml_tables(row, "dtb", file_));
    for (const toml::table* one : dtbs) {
      WEXLO_TRY(FolderDtb dtb, read_dtb(*one));
      part.dtbs.push_back(std::move(dtb));
    }
    return part;
  }

  Result<FolderTree> read_tree(const toml::table& row) {
    FolderTree tree;
    WEXLO_TRY(tree.tree, toml_get_or<std::string>(row, "tree", "", file_));
    WEXLO_TRY(tree.list, toml_get_or<std::string>(row, "list", "", file_));
    WEXLO_TRY(const toml::array* const encoders, toml_list(row, "encoder", file_));
    if (encoders != nullptr)
      for (const toml::node& node : *encoders) {
        const auto text = node.value_exact<std::string>();
        if (!text) return fail(toml_error(node, "encoder is not a list of texts", file_));
        tree.encoders.push_back(*text);
      }
    return tree;
  }

  Result<FolderTree> read_fragment(const toml::table& row) {
    WEXLO_TRY(FolderTree tree, read_tree(row));
    tree.in_table = true;
    WEXLO_TRY(tree.name, toml_get_or<std::string>(row, "name", "", file_));
    if (tree.name.starts_with('%')) {
      WEXLO_TRY(tree.name, percent_decode(std::string_view(tree.name).substr(1)));
    }
    WEXLO_TRY(const auto type, toml_get<std::string>(row, "type", file_));
    const auto value = boot::ramdisk_type_named(type);
    if (!value)
      return fail(toml_error(row, "type is not none, platform, recovery, dlkm or a number", file_));
    tree.type = *value;
    WEXLO_TRY(const toml::array* const words, toml_list(row, "board_id", file_));
    if (words != nullptr) {
      if (words->size() > tree.board_id.size())
        return fail(toml_error(*words, "board_id has more than 16 numbers", file_));
      for (std::size_t i = 0; i < words->size(); ++i) {
        const auto word = (*words)[i].value_exact<std::int64_t>();
        if (!word || *word < 0 || *word > 0xffffffff)
          return fail(toml_error(*words, "board_id is not a list of 32-bit numbers", file_));
        tree.board_id[i] = static_cast<std::uint32_t>(*word);
      }
    }
    return tree;
  }

  Result<FolderDtb> read_dtb(const toml::table& row) {
    FolderDtb dtb;
    WEXLO_TRY(dtb.index, number(row, "index", 1u << 20));
    WEXLO_TRY(dtb.file, toml_get<std::string>(row, "file", file_));
    WEXLO_TRY(dtb.sha256, toml_get<std::string>(row, "sha256", file_));
    WEXLO_TRY(dtb.model, toml_get_or<std::string>(row, "model", "", file_));
    return dtb;
  }

  std::string file_;
  FolderFacts out_;
  std::uint64_t total_ = 0;  ///< bytes of parts and padding, as they are said to be
};

/// A changed part whose magic the image is known by keeps as much of a form that it reads.
void blank_part(Bytes& out, const FolderPart& part, bool headless) {
  const std::size_t at = out.size();
  out.resize(at + part.stock_size);
  // An image in ELF form is known by the kernel that it begins with.
  constexpr std::size_t kKnownBy = 64;
  const std::size_t head = std::min({kKnownBy, std::size_t{part.stock_size}, part.bytes.size()});
  std::ranges::copy(part.bytes.view().first(head), out.begin() + static_cast<std::ptrdiff_t>(at));
  if (!headless || part.stock_size < 40) return;
  std::byte* fdt = out.data() + at;
  store<std::uint32_t, std::endian::big>(fdt, 0xd00dfeed);
  store<std::uint32_t, std::endian::big>(fdt + 4, static_cast<std::uint32_t>(part.stock_size));
}

}  // namespace

std::string FolderFacts::file() const {
  return (folder / kManifest).string();
}

Result<Blob> FolderFacts::member(const std::string& name) const {
  if (fs::path(name).filename() != name || name == "..")
    return fail({.code = ErrorCode::BadValue,
                 .message = "a part has to be a plain file name",
                 .file = file(),
                 .found = name});
  WEXLO_TRY(const SourcePtr source, open_file(folder / name));
  return read_all(*source, kMaxImage);
}

Bytes FolderFacts::assembled(bool blank) const {
  std::size_t size = prefix.size() + header.size() + tail.size();
  for (const FolderPart& part : parts)
    size += std::max<std::size_t>(part.stock_size, part.bytes.size()) + part.padding.size();
  Bytes out;
  out.reserve(size);
  append(out, prefix.view());
  append(out, header.view());
  for (const FolderPart& part : parts) {
    if (blank && part.changed)
      blank_part(out, part, header.empty());
    else
      append(out, part.bytes.view());
    append(out, part.padding.view());
  }
  append(out, tail.view());
  return out;
}

Status FolderFacts::find_changed() {
  header_changed = sha256_hex(header.view()) != header_sha256;
  for (FolderPart& part : parts)
    part.changed =
        part.bytes.size() != part.stock_size || sha256_hex(part.bytes.view()) != part.sha256;
  return {};
}

Result<FolderFacts> read_folder(const fs::path& folder) {
  return FolderReader(folder).run();
}

}  // namespace wexlo::parts
