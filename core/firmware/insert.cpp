#include "firmware/insert.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "archive/tar_write.hpp"
#include "archive/zip_write.hpp"
#include "codec/packing.hpp"
#include "codec/unpacked.hpp"
#include "firmware/file_names.hpp"
#include "firmware/formats.hpp"
#include "firmware/insert_bundle.hpp"
#include "firmware/opening.hpp"
#include "firmware/sparse.hpp"
#include "firmware/super.hpp"
#include "firmware/super_write.hpp"

namespace wexlo {
namespace {

Error unsupported(const SourcePtr& package, std::string message, std::string hint) {
  return {.code = ErrorCode::Unsupported,
          .message = std::move(message),
          .file = package->name(),
          .hint = std::move(hint)};
}

/// A container's new bytes, and what of them has to be given if it is written sparse.
struct Rebuilt {
  SourcePtr source;
  std::vector<ByteRange> given{};
};

class Inserter {
 public:
  Inserter(const InsertOptions& options, InsertReport& report)
      : options_(options), report_(report) {}

  /// @param path    in its bundle, for a compression without a magic
  /// @param direct  the wish is for this very file, not for something in it
  Result<Rebuilt> rebuild(const SourcePtr& source, const std::string& path,
                          const std::vector<Wish>& wishes, bool direct, unsigned depth) {
    WEXLO_CHECK(check_nesting(depth, source->name()));
    WEXLO_TRY(const Bytes start, read_some(*source, 0, kProbeSize));
    const Format* format = find_format(start);
    if (looks_like_sparse(start)) return in_sparse(source, path, wishes, direct, depth);
    if (const auto packed = packing_of(format, path))
      return in_packed(source, *packed, wishes, direct, depth);
    if (direct) return Rebuilt{wishes.front().image};
    const std::string_view kind = format == nullptr ? std::string_view() : format->kind;
    if (kind == "zip") return in_zip(source, wishes, depth);
    if (kind == "tar") return in_tar(source, wishes, depth);
    if (kind == "super") return in_super(source, wishes);
    if (kind == "payload")
      return fail(unsupported(source, "images are not put into a payload",
                              "Its operations are signed with their digests. prepare makes a kit "
                              "of images beside it."));
    return fail(unsupported(
        source,
        fmt::format("images are not put into {}", kind.empty() ? "a file of this kind" : kind),
        "Take the images out, and give the folder."));
  }

 private:
  /// nullopt: it is not packed. @param path  a name's ending tells where no first bytes do
  static std::optional<Compression> packing_of(const Format* format, const std::string& path) {
    if (format == nullptr) return read_file_name(path).packed;
    return format->unwrap == nullptr ? std::nullopt : compression_named(format->kind);
  }

  [[nodiscard]] Opening opening(unsigned depth) const {
    Opening out{.context = options_.context};
    out.depth = depth;
    return out;
  }

  /// The densest setting takes minutes for gigabytes, and brings little.
  static int usual_level(Compression kind) {
    switch (kind) {
      case Compression::Lz4Frame: return 1;
      case Compression::Zstd: return 3;
      case Compression::Xz: return 6;
      default: return -1;
    }
  }

  Result<Framing> framing(const SourcePtr& source, Compression kind, std::uint64_t size) const {
    // What lz4's old form carries at its end is seen in all of it.
    constexpr std::uint64_t kMostHeld = 256u << 20;
    const bool whole = kind == Compression::Lz4Legacy && source->size() <= kMostHeld;
    WEXLO_TRY(const Bytes seen, read_some(*source, 0, whole ? source->size() : kProbeSize));
    Framing out = framing_of(kind, seen, size);
    if (out.level < 0) out.level = usual_level(kind);
    return out;
  }

  Result<Rebuilt> in_sparse(const SourcePtr& source, const std::string& path,
                            const std::vector<Wish>& wishes, bool direct, unsigned depth) {
    WEXLO_TRY(const SourcePtr inner, open_sparse(source, opening(depth)));
    WEXLO_TRY(const Rebuilt rebuilt, rebuild(inner, path, wishes, direct, depth + 1));
    WEXLO_TRY(SourcePtr sparse,
              as_sparse({*rebuilt.source, rebuilt.given}, source->name(), options_.context));
    return Rebuilt{std::move(sparse)};
  }

  Result<Rebuilt> in_packed(const SourcePtr& source, Compression kind,
                            const std::vector<Wish>& wishes, bool direct, unsigned depth) {
    WEXLO_TRY(const SourcePtr inner,
              open_unpacked({.source = source, .kind = kind}, options_.context));
    WEXLO_TRY(const Rebuilt rebuilt, rebuild(inner, "", wishes, direct, depth + 1));
    WEXLO_TRY(const Framing old, framing(source, kind, inner->size()));
    WEXLO_TRY(SourcePtr packed,
              pack_source(*rebuilt.source, kind, old, source->name(), options_.context));
    return Rebuilt{std::move(packed)};
  }

  [[nodiscard]] InsertInner deeper(unsigned depth) {
    return [this, depth](const SourcePtr& file, const std::string& path,
                         const std::vector<Wish>& wishes, bool direct) -> Result<SourcePtr> {
      WEXLO_TRY(Rebuilt rebuilt, rebuild(file, path, wishes, direct, depth + 1));
      return std::move(rebuilt.source);
    };
  }

  Result<Rebuilt> in_zip(const SourcePtr& source, const std::vector<Wish>& wishes, unsigned depth) {
    WEXLO_TRY(const auto zip, ZipArchive::open(source));
    WEXLO_TRY(const auto changed, insert_into_bundle(bundle_of(zip, source->name()), wishes,
                                                     deeper(depth), options_, report_));
    ZipReplacements replacements;
    for (const ZipMember& member : zip->members()) {
      std::string path = member.name;
      std::ranges::replace(path, '\\', '/');
      if (const auto one = changed.find(path); one != changed.end())
        replacements.emplace(member.name, one->second);
    }
    WEXLO_TRY(RewrittenZip rewritten, rewrite_zip(source, replacements, options_.context));
    if (rewritten.signature_gone)
      report_.notes.push_back(
          {Level::Warning, FindingCode::SignatureGone,
           fmt::format(
               "{} was signed as a whole: that signature is left out, it would not be valid. "
               "A recovery that checks it refuses the package.",
               source->name())});
    if (rewritten.signature_stale)
      report_.notes.push_back(
          {Level::Warning, FindingCode::SignatureStale,
           fmt::format("{} signs its members one by one (META-INF): that is not valid for the "
                       "replaced ones.",
                       source->name())});
    return Rebuilt{std::move(rewritten.source)};
  }

  Result<Rebuilt> in_tar(const SourcePtr& source, const std::vector<Wish>& wishes, unsigned depth) {
    WEXLO_TRY(const Tar tar, open_tar(source, options_.context));
    WEXLO_TRY(const auto line, find_sum_line(*source));
    // A package that is damaged already would get a sum that says it is not.
    TaskGroup check(options_.context);
    if (line) check.submit(0, [&] { return check_sum_line(*source, *line, options_.context); });
    WEXLO_TRY(const auto changed,
              insert_into_bundle(tar.bundle, wishes, deeper(depth), options_, report_));
    WEXLO_TRY(SourcePtr out,
              rewrite_tar(source, changed, depth == 0 ? options_.sum_name : "", options_.context));
    WEXLO_CHECK(check.wait());
    report_.sum_line |= line.has_value();
    return Rebuilt{std::move(out)};
  }

  Result<Rebuilt> in_super(const SourcePtr& source, const std::vector<Wish>& wishes) {
    std::vector<LogicalImage> images;
    for (const Wish& wish : wishes)
      images.push_back({wish.name, wish.image});
    WEXLO_TRY(RewrittenSuper rewritten, rewrite_super(source, images));
    return Rebuilt{std::move(rewritten.source), std::move(rewritten.given)};
  }

  const InsertOptions& options_;
  InsertReport& report_;
};

}  // namespace

Wish wish_for(const PartitionFacts& partition, SourcePtr image) {
  return {partition.name, partition.from, partition.inside, std::move(image)};
}

Result<SourcePtr> insert_into(const SourcePtr& package, bool single,
                              const std::vector<Wish>& wishes, const InsertOptions& options,
                              InsertReport& report) {
  WEXLO_TRY(auto rebuilt,
            Inserter(options, report).rebuild(package, package->name(), wishes, single, 0));
  return std::move(rebuilt.source);
}

Result<std::map<std::string, SourcePtr>> insert_into_folder(const std::filesystem::path& folder,
                                                            const std::vector<Wish>& wishes,
                                                            const InsertOptions& options,
                                                            InsertReport& report) {
  WEXLO_TRY(const Bundle bundle, bundle_of_folder(folder));
  Inserter inserter(options, report);
  const InsertInner inner = [&](const SourcePtr& file, const std::string& path,
                                const std::vector<Wish>& deeper, bool direct) -> Result<SourcePtr> {
    WEXLO_TRY(auto rebuilt, inserter.rebuild(file, path, deeper, direct, 1));
    return std::move(rebuilt.source);
  };
  return insert_into_bundle(bundle, wishes, inner, options, report);
}

}  // namespace wexlo
