#include "compare/compare.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/source_read.hpp"
#include "image/boot.hpp"
#include "kit/folder/kit.hpp"
#include "parts/parts.hpp"
#include "recipe/patch.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

/// Boot-class partitions are small; others are compared by their digests.
constexpr std::uint64_t kDeep = 256u << 20;

/// One of the two: an image, or several named ones.
struct Compared {
  std::string kind;
  std::optional<LoadedImage> image;
  FirmwarePtr firmware;

  [[nodiscard]] std::set<std::string> names() const {
    std::set<std::string> out;
    for (const PartitionFacts& one : firmware->partitions)
      out.insert(one.name);
    return out;
  }
};

/// A packed image is one image, too.
Result<Compared> open_subject(const std::string& where, const Context& context) {
  std::error_code ignored;
  const fs::path path = where;
  Compared out;
  if (fs::exists(path / parts::kManifest, ignored)) {
    out.kind = "parts";
    WEXLO_TRY(parts::Repacked repacked, parts::repack(path, context));
    WEXLO_TRY(out.image, load_image(repacked.bytes, where));
    return out;
  }
  const bool kit = is_kit(path);
  WEXLO_TRY(out.firmware,
            open_firmware(kit ? (path / "flash").string() : where, {.context = context}));
  out.kind = out.firmware->kind;
  if (!out.firmware->single) return out;
  WEXLO_TRY(const SourcePtr source, out.firmware->partitions.front().content->source(context));
  WEXLO_TRY(const Blob bytes, read_all(*source, kMaxImage));
  WEXLO_TRY(out.image, load_image(bytes, where));
  if (out.image->image) out.kind = boot::partition_kind(*out.image->image);
  return out;
}

/// One partition of a firmware, as bytes.
Result<Blob> bytes_of(const Compared& subject, const std::string& name, const Context& context) {
  return read_partition(*subject.firmware->find(name), kMaxImage, context);
}

/// The digest without reading, where the package has one.
std::string stated(const Compared& subject, const std::string& name) {
  return subject.firmware->find(name)->sha256;
}

std::uint64_t size_of(const Compared& subject, const std::string& name) {
  return subject.firmware->find(name)->size;
}

class Pairing {
 public:
  Pairing(const Compared& a, const Compared& b, const Context& context)
      : a_(a), b_(b), context_(context) {}

  Result<Comparison> run() {
    out_.kind_a = a_.kind;
    out_.kind_b = b_.kind;
    if (a_.image && b_.image) {
      WEXLO_CHECK(images(*a_.image, *b_.image, ""));
    } else if (a_.image || b_.image) {
      WEXLO_CHECK(one_and_many());
    } else {
      WEXLO_CHECK(many());
    }
    return std::move(out_);
  }

 private:
  Status images(const LoadedImage& a, const LoadedImage& b, const std::string& partition) {
    WEXLO_TRY(ImageComparison one, compare_images(a, b, context_));
    one.partition = partition;
    const bool same = equal(a.bytes.view(), b.bytes.view());
    out_.same = out_.same && same;
    if (!same || partition.empty()) out_.images.push_back(std::move(one));
    return {};
  }

  /// An image against the partition of a firmware that it belongs to.
  Status one_and_many() {
    const bool first = a_.image.has_value();
    const LoadedImage& image = first ? *a_.image : *b_.image;
    const Compared& many = first ? b_ : a_;
    const std::string partition = partition_of(image);
    if (!many.names().contains(partition))
      return fail({.code = ErrorCode::Unsupported,
                   .message = fmt::format("the other side has no partition {}", partition),
                   .hint = "Compare the image with the partition's own: wexlo extract."});
    WEXLO_TRY(const Blob bytes, bytes_of(many, partition, context_));
    WEXLO_TRY(const LoadedImage other, load_image(bytes, partition));
    return first ? images(image, other, partition) : images(other, image, partition);
  }

  Status many() {
    const auto names_a = a_.names(), names_b = b_.names();
    std::set<std::string> all = names_a;
    all.insert(names_b.begin(), names_b.end());
    for (const std::string& name : all) {
      if (names_a.contains(name) && names_b.contains(name)) {
        WEXLO_CHECK(partition(name));
        continue;
      }
      const bool added = names_b.contains(name);
      only(name, size_of(added ? b_ : a_, name), added);
    }
    return {};
  }

  void only(const std::string& name, std::uint64_t size, bool added) {
    ImageComparison one{.partition = name};
    (added ? one.size_b : one.size_a) = size;
    const std::string text = fmt::format("{} bytes", size);
    one.differences.push_back({DifferenceArea::Partition,
                               added ? DifferenceKind::Added : DifferenceKind::Removed, name,
                               added ? "" : text, added ? text : ""});
    out_.images.push_back(std::move(one));
    out_.same = false;
  }

  Status partition(const std::string& name) {
    const std::string digest_a = stated(a_, name), digest_b = stated(b_, name);
    if (!digest_a.empty() && digest_a == digest_b) return {};
    const std::uint64_t size_a = size_of(a_, name), size_b = size_of(b_, name);
    if (size_a > kDeep || size_b > kDeep) return by_digest(name, size_a, size_b);
    WEXLO_TRY(const Blob bytes_a, bytes_of(a_, name, context_));
    WEXLO_TRY(const Blob bytes_b, bytes_of(b_, name, context_));
    if (equal(bytes_a.view(), bytes_b.view())) return {};
    const auto image_a = load_image(bytes_a, name), image_b = load_image(bytes_b, name);
    if (image_a && image_b) return images(*image_a, *image_b, name);
    ImageComparison one{.partition = name, .size_a = size_a, .size_b = size_b};
    one.differences.push_back({DifferenceArea::Partition, DifferenceKind::Content, name,
                               sha256_hex(bytes_a.view()), sha256_hex(bytes_b.view())});
    out_.images.push_back(std::move(one));
    out_.same = false;
    return {};
  }

  /// Too large to hold: read once for its digest, where the package does not state it.
  Result<std::string> digest(const Compared& subject, const std::string& name) {
    if (std::string known = stated(subject, name); !known.empty()) return known;
    const ContentPtr& content = subject.firmware->find(name)->content;
    WEXLO_TRY(const SourcePtr source, content->source(context_));
    WEXLO_TRY(const Bytes found,
              digest_of_start(*source, source->size(), DigestKind::Sha256, context_));
    return hex(found);
  }

  Status by_digest(const std::string& name, std::uint64_t size_a, std::uint64_t size_b) {
    WEXLO_TRY(const std::string a, digest(a_, name));
    WEXLO_TRY(const std::string b, digest(b_, name));
    if (a == b) return {};
    ImageComparison one{.partition = name, .size_a = size_a, .size_b = size_b};
    one.differences.push_back({DifferenceArea::Partition, DifferenceKind::Content, name, a, b});
    out_.images.push_back(std::move(one));
    out_.same = false;
    return {};
  }

  const Compared& a_;
  const Compared& b_;
  const Context& context_;
  Comparison out_;
};

}  // namespace

Result<Comparison> compare(const std::string& a, const std::string& b, const Context& context) {
  WEXLO_TRY(const Compared subject_a, open_subject(a, context));
  WEXLO_TRY(const Compared subject_b, open_subject(b, context));
  return Pairing(subject_a, subject_b, context).run();
}

}  // namespace wexlo
