#include "firmware/insert_bundle.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/contains.hpp"
#include "firmware/file_names.hpp"
#include "firmware/insert_set.hpp"
#include "firmware/listing_index.hpp"

namespace wexlo {
namespace {

/// Digests stand in texts of many endings, a program's own lists among them.
bool may_name_digests(const Item& item) {
  if (item.size == 0 || item.size > kMaxText || item.path.starts_with("META-INF/")) return false;
  return may_be_listing(item.path) || item.path.ends_with(".json");
}

class BundleInserter {
 public:
  BundleInserter(const Bundle& bundle, const InsertInner& inner, const InsertOptions& options,
                 InsertReport& report)
      : bundle_(bundle), inner_(inner), options_(options), report_(report), listings_(bundle) {}

  Result<std::map<std::string, SourcePtr>> run(const std::vector<Wish>& wishes) {
    WEXLO_CHECK(check_paths(bundle_));
    WEXLO_CHECK(read_texts());
    std::map<const Item*, std::vector<Wish>> by_item;
    for (const Wish& wish : wishes) {
      WEXLO_TRY(const Item* const item, home_of(wish));
      by_item[item].push_back(wish);
    }
    for (const auto& [item, mine] : by_item)
      WEXLO_CHECK(change(*item, mine));
    WEXLO_CHECK(make_texts_true());
    return std::move(out_);
  }

 private:
  Status read_texts() {
    for (const Item& item : bundle_.items) {
      if (!may_name_digests(item)) continue;
      WEXLO_TRY(std::string text, read_text(item, kMaxText, options_.context));
      if (may_be_listing(item.path)) {
        BuildFacts ignored;
        listings_.add(item, text, ignored);
      }
      for (const DigestKind kind : digest_kinds_in(text))
        if (!contains(kinds_, kind)) kinds_.push_back(kind);
      texts_.emplace(&item, std::move(text));
    }
    return {};
  }

  /// `PATH`, `PATH!…` for what lies deeper, `PATH (3 pieces)` for a numbered set.
  [[nodiscard]] static bool begins(const std::string& from, const std::string& path) {
    if (!from.starts_with(path)) return false;
    const std::string_view rest = std::string_view(from).substr(path.size());
    return rest.empty() || rest.starts_with('!') || rest.starts_with(" (");
  }

  /// A partition that a listing lays out over several files by their sectors is not cut again.
  Status check_not_placed(const Wish& wish, const Item* home) const {
    const auto holds = [&](const ListedPieces& pieces) {
      return pieces.partition == wish.name &&
             contains(pieces.parts, home, &ListedPieces::Part::item);
    };
    if (home == nullptr || std::ranges::none_of(listings_.pieces(), holds)) return {};
    return fail({.code = ErrorCode::Unsupported,
                 .message = fmt::format("{} lies in several files at sectors that a listing names",
                                        wish.name),
                 .file = bundle_.name,
                 .hint = "prepare makes a kit of images beside the package."});
  }

  Result<const Item*> home_of(const Wish& wish) const {
    const Item* best = nullptr;
    for (const Item& item : bundle_.items)
      if (begins(wish.from, item.path) && (best == nullptr || item.path.size() > best->path.size()))
        best = &item;
    WEXLO_CHECK(check_not_placed(wish, best));
    if (best != nullptr && !best->path.ends_with(".new.dat") &&
        best->path.find(".new.dat.") == std::string::npos)
      return best;
    return fail({.code = ErrorCode::Unsupported,
                 .message = fmt::format("{} does not lie in a file of its own that could be "
                                        "replaced",
                                        wish.name),
                 .file = bundle_.name,
                 .found = best == nullptr ? "a payload" : "a transfer list",
                 .hint = "Its operations are signed, or patched in order. prepare makes a kit of "
                         "images beside it."});
  }

  Status change(const Item& item, const std::vector<Wish>& wishes) {
    std::vector<Wish> deeper = wishes;
    bool set = false;
    for (Wish& wish : deeper) {
      const std::string rest = wish.from.substr(item.path.size());
      set |= rest.starts_with(" (");
      wish.from = rest.starts_with('!') ? rest.substr(1) : std::string();
    }
    const bool direct = deeper.front().from.empty() && deeper.front().inside.empty();
    if (direct && deeper.size() > 1 && !listings_.has_slices(item))
      return fail({.code = ErrorCode::Usage,
                   .message = fmt::format("two images for one file: {}", item.path),
                   .file = bundle_.name});
    if (set) return change_set(item, deeper, direct);
    WEXLO_TRY(const SourcePtr file, item.open(options_.context));
    if (direct && listings_.has_slices(item)) return change_slices(item, file, deeper);
    WEXLO_TRY(SourcePtr changed, inner_(file, item.path, deeper, direct));
    return put(item, *file, std::move(changed));
  }

  Status put(const Item& item, const Source& before, SourcePtr after) {
    WEXLO_TRY(FileChange file, compare_files(std::string(base_name(item.path)), before, *after,
                                             kinds_, options_.context));
    report_.files.push_back(std::move(file));
    out_.emplace(item.path, std::move(after));
    return {};
  }

  /// All pieces of the numbered set that begins with `first`.
  Status change_set(const Item& first, const std::vector<Wish>& wishes, bool direct) {
    const auto key = [&](const Item& item) {
      const std::string folder =
          item.path.substr(0, item.path.size() - base_name(item.path).size());
      return folder + listings_.name_of(item).value_or(read_file_name(item.path).set);
    };
    std::vector<const Item*> items;
    for (const Item& item : bundle_.items)
      if (read_file_name(item.path).number && key(item) == key(first)) items.push_back(&item);
    std::ranges::sort(items, {},
                      [](const Item* item) { return *read_file_name(item->path).number; });
    std::vector<SourcePtr> pieces;
    for (const Item* item : items) {
      WEXLO_TRY(SourcePtr piece, item->open(options_.context));
      pieces.push_back(std::move(piece));
    }
    WEXLO_TRY(auto changed, insert_into_set(pieces, wishes, direct, options_));
    for (std::size_t i = 0; i < items.size(); ++i)
      WEXLO_CHECK(put(*items[i], *pieces[i], std::move(changed[i])));
    return {};
  }

  /// A file that holds several partitions, at places that a listing names.
  Status change_slices(const Item& item, const SourcePtr& file, const std::vector<Wish>& wishes) {
    std::map<std::uint64_t, Piece> places;
    for (const Wish& wish : wishes) {
      const auto& rows = listings_.rows_of(item);
      const auto row = std::ranges::find(rows, wish.name, &ListingRow::partition);
      const Slice slice = row == rows.end() ? Slice{} : *slice_of(*row);
      if (wish.image->size() > slice.length)
        return fail(
            {.code = ErrorCode::DoesNotFit,
             .message = fmt::format("{} has no room for that image", item.path),
             .file = bundle_.name,
             .expected = row == rows.end() ? "" : fmt::format("at most {} bytes", slice.length),
             .found = fmt::format("{} bytes", wish.image->size())});
      places.emplace(slice.start, Piece{wish.image, 0, wish.image->size()});
      if (wish.image->size() < slice.length)
        places.emplace(slice.start + wish.image->size(),
                       Piece{nullptr, 0, slice.length - wish.image->size()});
    }
    std::vector<Piece> pieces;
    std::uint64_t at = 0;
    for (auto& [begin, piece] : places) {
      if (begin > at) pieces.push_back({file, at, begin - at});
      at = begin + piece.size;
      pieces.push_back(std::move(piece));
    }
    if (at < file->size()) pieces.push_back({file, at, file->size() - at});
    WEXLO_TRY(SourcePtr joined, open_joined(std::move(pieces), file->name()));
    return put(item, *file, std::move(joined));
  }

  /// Texts that hold digests or sizes of what changed, here or deeper.
  Status make_texts_true() {
    std::vector<std::string> others;
    for (const Item& item : bundle_.items)
      if (!out_.contains(item.path)) others.emplace_back(base_name(item.path));
    for (const auto& [item, text] : texts_) {
      if (out_.contains(item->path)) continue;
      Relisted changed = relist(text, report_.files, others);
      if (changed.text == text) continue;
      report_.lists.push_back(bundle_.name + "!" + item->path);
      WEXLO_TRY(const SourcePtr before, item->open(options_.context));
      WEXLO_CHECK(put(*item, *before, open_memory(Blob(to_bytes(changed.text)), before->name())));
    }
    return {};
  }

  const Bundle& bundle_;
  const InsertInner& inner_;
  const InsertOptions& options_;
  InsertReport& report_;
  ListingIndex listings_;
  std::map<const Item*, std::string> texts_;
  std::vector<DigestKind> kinds_;  ///< that any text of the bundle may hold
  std::map<std::string, SourcePtr> out_;
};

}  // namespace

Result<std::map<std::string, SourcePtr>> insert_into_bundle(const Bundle& bundle,
                                                            const std::vector<Wish>& wishes,
                                                            const InsertInner& inner,
                                                            const InsertOptions& options,
                                                            InsertReport& report) {
  return BundleInserter(bundle, inner, options, report).run(wishes);
}

}  // namespace wexlo
