#include <fmt/format.h>

#include <algorithm>

#include "base/digest.hpp"
#include "image/boot.hpp"
#include "image/fragments.hpp"
#include "image/kernel.hpp"
#include "parts/fields.hpp"
#include "parts/folder.hpp"
#include "parts/parts.hpp"
#include "parts/rebuild.hpp"
#include "text/text.hpp"
#include "text/toml_read.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo::parts {
namespace fs = std::filesystem;
namespace {

class Repacker {
 public:
  Repacker(FolderFacts facts, const Context& context) : in_(std::move(facts)), context_(context) {}

  Result<Repacked> run() {
    if (!in_.has_header) return whole();
    // Hashed while the trees are read: mostly nothing else was edited.
    const bool sizes_kept = std::ranges::all_of(
        in_.parts, [](const FolderPart& part) { return part.bytes.size() == part.stock_size; });
    if (!sizes_kept) WEXLO_CHECK(in_.find_changed());
    const Blob as_it_is(in_.assembled(false));
    std::string digest;
    TaskGroup beside(context_);
    beside.submit(0, [&]() -> Status {
      digest = sha256_hex(as_it_is.view());
      return {};
    });
    WEXLO_CHECK(read_ramdisks(sizes_kept ? as_it_is : Blob(in_.assembled(true))));
    WEXLO_CHECK(beside.wait());
    if (sizes_kept && digest != in_.image_sha256) WEXLO_CHECK(in_.find_changed());
    WEXLO_CHECK(check_header());
    const bool edited = std::ranges::any_of(in_.parts, &FolderPart::changed);
    WEXLO_TRY(Image image, stock_image(edited ? Blob(in_.assembled(true)) : as_it_is));
    WEXLO_CHECK(set_header(image));
    for (const FolderPart& part : in_.parts)
      WEXLO_CHECK(set_part(image, part));
    for (const FolderPart& part : in_.parts)
      WEXLO_CHECK(set_fragments(image, part));
    WEXLO_TRY(out_.bytes, finish(std::move(image), digest));
    return std::move(out_);
  }

 private:
  std::string file() const { return in_.file(); }

  /// An image kept whole: the file is the image.
  Result<Repacked> whole() {
    if (in_.parts.size() != 1)
      return fail(
          {.code = ErrorCode::BadValue, .message = "one part was expected", .file = file()});
    out_.bytes = in_.parts.front().bytes;
    out_.sha256 = sha256_hex(out_.bytes);
    if (out_.sha256 != in_.image_sha256)
      out_.changes.push_back({"image", "content", "", "other bytes"});
    return std::move(out_);
  }

  struct Edited {
    const FolderPart* part;
    const FolderTree* tree;
    Ramdisk ramdisk;
    std::vector<TreeChange> changes;
  };

  /// Where a tree's ramdisk is in the image: asked of the image as it is, before any edit.
  Status read_ramdisks(const Blob& bytes) {
    auto loaded = load_image(bytes, in_.folder.string());
    for (const FolderPart& part : in_.parts) {
      if (part.trees.empty()) continue;
      if (!loaded || !loaded->image) return {};  // told later, with what was changed
      for (const FolderTree& tree : part.trees)
        WEXLO_CHECK(read_ramdisk(*loaded->image, part, tree));
    }
    return {};
  }

  Status read_ramdisk(const Image& image, const FolderPart& part, const FolderTree& tree) {
    if (tree.tree.empty()) return {};
    const auto ramdisks = boot::ramdisk_parts(image);
    const auto at = std::ranges::find_if(ramdisks, [&](const boot::RamdiskPart& one) {
      return one.section == part.name && one.index == tree.index;
    });
    if (at == ramdisks.end()) return {};
    auto ramdisk = parse_ramdisk(at->bytes, decode_limit(context_));
    if (!ramdisk) return {};  // the part's file was changed: told by check_ramdisk_files
    for (std::size_t i = 0; i < ramdisk->segments.size() && i < tree.encoders.size(); ++i) {
      if (auto set = set_setting(ramdisk->segments[i].framing, tree.encoders[i]); !set)
        return fail(in_file(std::move(set).error(), file()));
      ramdisk->segments[i].setting_known = true;
    }
    const TreePaths paths{in_.folder / fs::path(tree.tree).filename(),
                          in_.folder / (fs::path(tree.tree).filename().string() + ".odd"),
                          in_.folder / fs::path(tree.list).filename()};
    WEXLO_TRY(auto applied, apply_tree(*ramdisk, paths));
    out_.notes.insert(out_.notes.end(), applied.notes.begin(), applied.notes.end());
    edited_.push_back({&part, &tree, std::move(*ramdisk), std::move(applied.changes)});
    return {};
  }

  Status check_header() const {
    if (!in_.header_changed) return {};
    return fail({.code = ErrorCode::DigestMismatch,
                 .message = "the stored header is not the one that was unpacked",
                 .file = (in_.folder / "header.bin").string(),
                 .expected = in_.header_sha256,
                 .found = sha256_hex(in_.header.view()),
                 .hint = "Edit the values below [header] in parts.toml instead."});
  }

  /// The stock image again, but for the content of parts that were edited: there, zeros stand.
  /// Their sizes are the stock ones, so that the header fits.
  Result<Image> stock_image(const Blob& bytes) {
    WEXLO_TRY(LoadedImage loaded, load_image(bytes, in_.folder.string()));
    if (!loaded.image)
      return fail({.code = ErrorCode::BadValue,
                   .message = "header.bin is not that of such an image",
                   .file = file()});
    stock_bytes_ = loaded.bytes;
    return std::move(*loaded.image);
  }

  Status set_header(Image& image) {
    const auto stock = editable_fields(image);
    for (const FieldText& field : in_.fields) {
      const auto old = std::ranges::find(stock, field.name, &FieldText::name);
      if (old != stock.end() && same_value(*old, field)) continue;
      if (auto set = set_field(image, field); !set) {
        Error error = in_file(std::move(set).error(), file());
        error.message = fmt::format("line {}: {}", field.line, error.message);
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
    const auto number = parse_number(now.value);
    return old.number && old.value.starts_with("0x") && number && hex_value(*number) == old.value;
  }

  Status set_part(Image& image, const FolderPart& part) {
    if (image.section(part.name) == nullptr)
      return fail({.code = ErrorCode::BadValue,
                   .message = "no such part in this image: " + part.name,
                   .file = file()});
    WEXLO_TRY(auto trees, changed_trees(part));
    WEXLO_TRY(const auto plain, changed_kernel(part));
    const bool in_tree =
        std::ranges::any_of(part.trees, [](const auto& t) { return !t.tree.empty(); });
    if (part.changed && in_tree) return ramdisk_file_changed(part);
    if (part.changed && (plain || !trees.empty()))
      return fail(
          {.code = ErrorCode::DigestMismatch,
           .message = fmt::format("{} and {} taken out of it were both edited", part.file_name,
                                  plain ? part.plain_file : "a device tree"),
           .file = file(),
           .hint = "Keep one of the two edits: put the other file back from a fresh "
                   "unpack."});
    if (part.changed) {
      out_.changes.push_back({part.name, "content", "",
                              fmt::format("{} -> {} bytes", part.stock_size, part.bytes.size())});
      if (!part.dtbs.empty() && part.name == "kernel")
        out_.notes.push_back(
            "The kernel was replaced as a whole, with the device trees behind it.");
      return image.replace(part.name, part.bytes);
    }
    if (image.kind() == "dt-table") {
      if (trees.empty()) return {};
      WEXLO_TRY(const Bytes table, dt::replace(dt::whole_table(image), trees));
      return image.replace(part.name, Blob(to_bytes(View(table).subspan(image.header().size()))));
    }
    if (plain) return put_kernel(image, part, *plain, trees);
    if (trees.empty()) return {};
    WEXLO_TRY(const Bytes fresh, dt::replace(part.bytes.rest(part.trees_at), trees));
    Bytes whole = to_bytes(part.bytes.view().first(part.trees_at));
    append(whole, View(fresh));
    if (part.name == "kernel") kernel::renew_wrapping(whole, part.bytes.view());
    return image.replace(part.name, Blob(std::move(whole)));
  }

  /// The kernel as it runs, where it was edited.
  Result<std::optional<Blob>> changed_kernel(const FolderPart& part) {
    if (part.plain_file.empty()) return std::nullopt;
    WEXLO_TRY(Blob plain, in_.member(part.plain_file));
    if (sha256_hex(plain.view()) == part.plain_sha256) return std::nullopt;
    out_.changes.push_back({part.name, "kernel", part.plain_file,
                            fmt::format("now {} bytes, packed as it was", plain.size())});
    return plain;
  }

  /// Packed as the stock one, with the trees behind it.
  Status put_kernel(Image& image, const FolderPart& part, const Blob& plain,
                    const std::map<std::size_t, Blob>& trees) {
    if (plain.empty())
      return fail({.code = ErrorCode::BadValue,
                   .message = "the kernel is empty",
                   .file = (in_.folder / part.plain_file).string(),
                   .hint = "Unpack the image again, and put in a whole kernel."});
    WEXLO_TRY(const kernel::Body body, kernel::open_body(part.bytes, decode_limit(context_)));
    std::optional<Bytes> behind;
    if (!trees.empty()) {
      behind = to_bytes(part.bytes.view().subspan(body.end, part.trees_at - body.end));
      WEXLO_TRY(const Bytes fresh, dt::replace(part.bytes.rest(part.trees_at), trees));
      append(*behind, View(fresh));
    }
    auto packed = kernel::with_body(part.bytes, body, plain, context_,
                                    behind ? std::optional(View(*behind)) : std::nullopt);
    if (!packed)
      return fail(in_file(std::move(packed).error(), (in_.folder / part.plain_file).string()));
    return image.replace(part.name, Blob(std::move(*packed)));
  }

  /// Device trees of a part that were edited, by their index in it.
  Result<std::map<std::size_t, Blob>> changed_trees(const FolderPart& part) {
    std::map<std::size_t, Blob> out;
    for (const FolderDtb& dtb : part.dtbs) {
      WEXLO_TRY(const Blob bytes, in_.member(dtb.file));
      if (sha256_hex(bytes.view()) == dtb.sha256) continue;
      const auto facts = dt::facts_of(bytes.view());
      out_.changes.push_back({part.name, "device tree", dtb.file,
                              facts.model == dtb.model
                                  ? fmt::format("now {} bytes", bytes.size())
                                  : fmt::format("model {} -> {}", dtb.model, facts.model)});
      out[dtb.index] = bytes;
    }
    return out;
  }

  Status ramdisk_file_changed(const FolderPart& part) const {
    return fail({.code = ErrorCode::DigestMismatch,
                 .message = "the stored ramdisk is not the one that was unpacked",
                 .file = (in_.folder / part.file_name).string(),
                 .expected = part.sha256,
                 .found = sha256_hex(part.bytes.view()),
                 .hint = "Edit the tree; to put in a whole other ramdisk, take the lines tree and "
                         "list out of parts.toml."});
  }

  /// Name, type and board id of vendor_boot's fragments.
  Status set_fragments(Image& image, const FolderPart& part) {
    for (const FolderTree& tree : part.trees) {
      if (!tree.in_table) continue;
      const auto ramdisks = boot::ramdisk_parts(image);
      if (tree.index >= ramdisks.size()) continue;
      const boot::RamdiskPart& old = ramdisks[tree.index];
      if (old.name == tree.name && old.type == tree.type && old.board_id == tree.board_id) continue;
      out_.changes.push_back({"vendor_ramdisk_table", "fragment", old.title(),
                              fmt::format("now \"{}\", {}", printable(tree.name),
                                          boot::ramdisk_type_name(tree.type))});
      if (auto set = boot::set_fragment(image, tree.index, tree.name, tree.type, tree.board_id);
          !set)
        return fail(in_file(std::move(set).error(), in_.file()));
    }
    return {};
  }

  Result<Blob> finish(Image image, const std::string& digest) {
    std::vector<EditedRamdisk> edited;
    for (const Edited& one : edited_) {
      if (one.changes.empty()) continue;
      for (const TreeChange& change : one.changes)
        out_.changes.push_back(
            {one.tree->in_table ? boot::ramdisk_parts(image).at(one.tree->index).title()
                                : one.part->name,
             std::string(tree_change_name(change.kind)), change.place, change.detail});
      edited.push_back({one.tree->index, &one.ramdisk});
    }
    if (out_.changes.empty()) {
      out_.sha256 = digest;
      if (digest == in_.image_sha256) return stock_bytes_;
      return fail({.code = ErrorCode::DigestMismatch,
                   .message = "the parts do not give the image that was unpacked, and nothing was "
                              "edited",
                   .file = file(),
                   .expected = in_.image_sha256,
                   .found = digest,
                   .hint = "A padding or tail file was changed: unpack the image again."});
    }
    WEXLO_TRY(auto notes, rebuild(image, stock_bytes_, in_.id_digest, edited, context_));
    for (Remark& note : notes)
      out_.notes.push_back(std::move(note.text));
    Blob bytes(image.write());
    WEXLO_CHECK(account(bytes, image, edited));
    cover(image, bytes);
    out_.sha256 = sha256_hex(bytes);
    return bytes;
  }

  /// What speaks of the image's bytes: in the image it was renewed, elsewhere it is stale now.
  void cover(const Image& image, const Blob& bytes) {
    if (in_.id_digest) out_.renewed.emplace_back("the id in the header");
    const auto matches = verified::own_digest_matches(bytes.view());
    if (matches && *matches == true)
      out_.renewed.emplace_back("the digest in the image's own footer");
    if (image.kind() == "vbmeta" || boot::partition_kind(image).empty()) return;
    out_.not_covered.emplace_back(
        "a vbmeta that covers the image has the stock one's digest: an unlocked phone warns and "
        "starts, a locked one stops. wexlo seal with both renews it.");
  }

  /// The output, read afresh, is what was meant: an encoder that gave other content than it was
  /// given would be found here, and no image appears.
  Status account(const Blob& bytes, const Image& meant,
                 const std::vector<EditedRamdisk>& edited) const {
    auto loaded = load_image(bytes, "the output");
    if (!loaded) return fail(unexplained("it does not read", describe(loaded.error())));
    if (!loaded->image || !equal(loaded->image->write(), bytes.view()))
      return fail(unexplained("it reads as something else", std::string(loaded->format->kind)));
    for (const FolderPart& part : in_.parts) {
      const Section* const now = loaded->image->section(part.name);
      const Section* const wanted = meant.section(part.name);
      if (now == nullptr || wanted == nullptr || !equal(now->bytes.view(), wanted->bytes.view()))
        return fail(unexplained("a part is not the one that was put in", part.name));
    }
    if (!equal(loaded->image->header(), meant.header()))
      return fail(unexplained("the header is not as it was set", ""));
    const auto ramdisks = boot::ramdisk_parts(*loaded->image);
    for (const EditedRamdisk& one : edited) {
      if (one.part >= ramdisks.size()) return fail(unexplained("a ramdisk is gone", ""));
      const auto again = parse_ramdisk(ramdisks[one.part].bytes, decode_limit(context_));
      if (!again) return fail(unexplained("a ramdisk does not read", describe(again.error())));
      const bool same =
          std::ranges::equal(again->segments, one.ramdisk->segments,
                             [](const RamdiskSegment& now, const RamdiskSegment& wanted) {
                               return equal(newc::write(now.archive), newc::write(wanted.archive));
                             });
      if (!same)
        return fail(unexplained("a ramdisk does not decode to what was packed",
                                ramdisks[one.part].title()));
    }
    return {};
  }

  [[nodiscard]] Error unexplained(std::string what, std::string found) const {
    return {.code = ErrorCode::Unexplained,
            .message = "the image that was put together was read again: " + std::move(what),
            .file = in_.folder.string(),
            .found = std::move(found),
            .hint = "Nothing was written. This is a fault of Wexlo: please report it."};
  }

  FolderFacts in_;
  const Context& context_;
  std::vector<Edited> edited_;
  Blob stock_bytes_;
  Repacked out_;
};

}  // namespace

Result<Repacked> repack(const fs::path& folder, const Context& context) {
  std::error_code ignored;
  if (!fs::exists(folder / kManifest, ignored))
    return fail({.code = fs::exists(folder, ignored) ? ErrorCode::BadMagic : ErrorCode::NotFound,
                 .message = "not a parts folder",
                 .file = folder.string(),
                 .expected = std::string(kManifest) + " in it",
                 .hint = "Make one with: wexlo unpack IMAGE -o PARTS"});
  WEXLO_TRY(FolderFacts facts, read_folder(folder));
  return Repacker(std::move(facts), context).run();
}

}  // namespace wexlo::parts
