#include "job/compare.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/digest.hpp"
#include "image/boot.hpp"
#include "job/prepare.hpp"
#include "parts/parts.hpp"
#include "recipe/patch.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

/// Boot-class partitions are small; others are compared by their digests.
constexpr std::uint64_t kDeep = 256u << 20;

/// One of the two: an image, or several named ones.
struct Subject {
  std::string kind;
  std::optional<LoadedImage> image;
  std::unique_ptr<Firmware> firmware;
  std::map<std::string, fs::path> files;  ///< of a folder: partition -> image

  [[nodiscard]] std::set<std::string> names() const {
    std::set<std::string> out;
    if (firmware)
      for (const PartitionFacts& one : firmware->partitions())
        out.insert(one.name);
    for (const auto& [name, path] : files)
      out.insert(name);
    return out;
  }
};

Result<Subject> open_folder(const fs::path& path, const Context& context) {
  std::error_code ignored;
  Subject out{.kind = "folder"};
  if (fs::exists(path / parts::kManifest, ignored)) {
    out.kind = "parts";
    WEXLO_TRY(parts::Repacked repacked, parts::repack(path, context));
    WEXLO_TRY(out.image, load_image(repacked.bytes, path.string()));
    return out;
  }
  const bool kit = fs::exists(path / kKitManifest, ignored);
  for (const auto& entry : fs::directory_iterator(kit ? path / "flash" : path, ignored))
    if (entry.is_regular_file(ignored) && entry.path().extension() == ".img")
      out.files.emplace(entry.path().stem().string(), entry.path());
  if (out.files.empty())
    return fail({.code = ErrorCode::NotFound,
                 .message = "no images in this folder",
                 .file = path.string(),
                 .expected = "files that end with .img, or a parts folder"});
  return out;
}

Result<Subject> open_subject(const fs::path& path, const Context& context) {
  std::error_code ignored;
  if (fs::is_directory(path, ignored)) return open_folder(path, context);
  WEXLO_TRY(const SourcePtr source, open_file(path));
  WEXLO_TRY(const Identified found, identify(*source));
  Subject out{.kind = std::string(found.format->kind)};
  if (found.format->open_firmware != nullptr) {
    WEXLO_TRY(out.firmware, found.format->open_firmware(source));
  } else {
    WEXLO_TRY(out.image, load_image(*source));
    if (out.image->image) out.kind = boot::partition_kind(*out.image->image);
  }
  return out;
}

/// One partition of a firmware or folder, as bytes.
Result<Blob> bytes_of(const Subject& subject, const std::string& name, const Context& context) {
  if (const auto at = subject.files.find(name); at != subject.files.end()) {
    WEXLO_TRY(const SourcePtr source, open_file(at->second));
    return read_all(*source, kMaxImage);
  }
  const PartitionFacts* facts = subject.firmware->find(name);
  return read_partition(*subject.firmware, *facts, kMaxImage, context);
}

/// The digest without reading, where the package has one.
std::string stated(const Subject& subject, const std::string& name) {
  const PartitionFacts* facts = subject.firmware ? subject.firmware->find(name) : nullptr;
  return facts == nullptr ? "" : facts->sha256;
}

std::uint64_t size_of(const Subject& subject, const std::string& name) {
  std::error_code ignored;
  if (const auto at = subject.files.find(name); at != subject.files.end())
    return fs::file_size(at->second, ignored);
  const PartitionFacts* facts = subject.firmware ? subject.firmware->find(name) : nullptr;
  return facts == nullptr ? 0 : facts->size;
}

class Pairing {
 public:
  Pairing(const Subject& a, const Subject& b, const Context& context)
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
    const Subject& many = first ? b_ : a_;
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
      only(name, added ? "added" : "removed", size_of(added ? b_ : a_, name), added);
    }
    return {};
  }

  void only(const std::string& name, const char* what, std::uint64_t size, bool added) {
    ImageComparison one{.partition = name};
    (added ? one.size_b : one.size_a) = size;
    const std::string text = fmt::format("{} bytes", size);
    one.differences.push_back({"partition", what, name, added ? "" : text, added ? text : "", {}});
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
    one.differences.push_back(
        {"partition", "content", name, sha256_hex(bytes_a.view()), sha256_hex(bytes_b.view()), {}});
    out_.images.push_back(std::move(one));
    out_.same = false;
    return {};
  }

  /// Too large to hold: read once for its digest, where the package does not state it.
  Result<std::string> digest(const Subject& subject, const std::string& name) {
    if (std::string known = stated(subject, name); !known.empty()) return known;
    WEXLO_TRY(const SourcePtr source, open_file(subject.files.at(name)));
    Hasher hasher(DigestKind::Sha256);
    Bytes buffer(1u << 20);
    SourceStream stream(*source, 0, source->size());
    for (;;) {
      WEXLO_CHECK(check_stop(context_));
      WEXLO_TRY(const std::size_t got, stream.read(buffer));
      if (got == 0) break;
      hasher.update(View(buffer).first(got));
    }
    return hex(hasher.finish());
  }

  Status by_digest(const std::string& name, std::uint64_t size_a, std::uint64_t size_b) {
    if (a_.firmware && stated(a_, name).empty()) return unread(name);
    if (b_.firmware && stated(b_, name).empty()) return unread(name);
    WEXLO_TRY(const std::string a, digest(a_, name));
    WEXLO_TRY(const std::string b, digest(b_, name));
    if (a == b) return {};
    ImageComparison one{.partition = name, .size_a = size_a, .size_b = size_b};
    one.differences.push_back({"partition", "content", name, a, b, {}});
    out_.images.push_back(std::move(one));
    out_.same = false;
    return {};
  }

  static Status unread(const std::string& name) {
    return fail(
        {.code = ErrorCode::Unsupported,
         .message = fmt::format("partition {} is too large to compare without digests", name),
         .hint = "Extract it from both packages and compare the files."});
  }

  const Subject& a_;
  const Subject& b_;
  const Context& context_;
  Comparison out_;
};

}  // namespace

Result<Comparison> compare(const fs::path& a, const fs::path& b, const Context& context) {
  WEXLO_TRY(const Subject subject_a, open_subject(a, context));
  WEXLO_TRY(const Subject subject_b, open_subject(b, context));
  return Pairing(subject_a, subject_b, context).run();
}

}  // namespace wexlo
