/// Two images, structure by structure.

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/differing.hpp"
#include "base/digest.hpp"
#include "compare/compare_kernel.hpp"
#include "compare/compare_ramdisk.hpp"
#include "image/boot.hpp"
#include "image/tail.hpp"
#include "inspect/inspect.hpp"
#include "parts/fields.hpp"
#include "ramdisk/permissive.hpp"
#include "ramdisk/textfiles.hpp"
#include "text/text.hpp"
#include "text/text_diff.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {
namespace {

using Area = DifferenceArea;
using Kind = DifferenceKind;

std::vector<std::string> words_of(std::string_view text) {
  const auto words = split_words(text);
  return {words.begin(), words.end()};
}

/// One side with all that was read of it.
struct ImageSide {
  const LoadedImage& loaded;
  const Image& image;
  ImageReading reading;
};

class Compare {
 public:
  Compare(const ImageSide& a, const ImageSide& b, const Context& context)
      : a_(a), b_(b), context_(context) {}

  ImageComparison run() {
    out_.size_a = a_.loaded.bytes.size();
    out_.size_b = b_.loaded.bytes.size();
    header();
    words();
    parts();
    kernels();
    compare_ramdisks(a_.reading, b_.reading, out_.differences);
    trees();
    permissive();
    vbmeta();
    around();
    meaning();
    return std::move(out_);
  }

 private:
  void add(Area area, Kind kind, std::string where, std::string before, std::string after) {
    out_.differences.push_back({area, kind, std::move(where), std::move(before), std::move(after)});
  }
  void differ(Area area, const std::string& where, const std::string& before,
              const std::string& after) {
    if (before != after) add(area, Kind::Changed, where, before, after);
  }

  void header() {
    differ(Area::Header, "kind", std::string(boot::partition_kind(a_.image)),
           std::string(boot::partition_kind(b_.image)));
    differ(Area::Header, "header_version", fmt::format("{}", a_.image.layout().version),
           fmt::format("{}", b_.image.layout().version));
    differ(Area::Header, "page_size", fmt::format("{}", a_.image.page()),
           fmt::format("{}", b_.image.page()));
    const auto fields_a = parts::editable_fields(a_.image);
    const auto fields_b = parts::editable_fields(b_.image);
    for (const parts::FieldText& field : fields_a) {
      if (field.name == "cmdline") continue;  // by the word
      const auto other = std::ranges::find(fields_b, field.name, &parts::FieldText::name);
      differ(Area::Header, field.name, field.value, other == fields_b.end() ? "" : other->value);
    }
    for (const parts::FieldText& field : fields_b)
      if (std::ranges::find(fields_a, field.name, &parts::FieldText::name) == fields_a.end())
        add(Area::Header, Kind::Added, field.name, "", field.value);
    differ(Area::Header, "id", hex(a_.image.raw("id")), hex(b_.image.raw("id")));
  }

  void word_sets(Area area, const std::vector<std::string>& before,
                 const std::vector<std::string>& after) {
    std::multiset<std::string> gone(before.begin(), before.end()), fresh;
    for (const std::string& word : after) {
      if (const auto at = gone.find(word); at != gone.end())
        gone.erase(at);
      else
        fresh.insert(word);
    }
    for (const std::string& word : before)
      if (const auto at = gone.find(word); at != gone.end()) {
        add(area, Kind::Removed, word, word, "");
        gone.erase(at);
      }
    for (const std::string& word : after)
      if (const auto at = fresh.find(word); at != fresh.end()) {
        add(area, Kind::Added, word, "", word);
        fresh.erase(at);
      }
  }

  void words() {
    const std::size_t before = out_.differences.size();
    const std::string line_a = boot::cmdline(a_.image), line_b = boot::cmdline(b_.image);
    word_sets(Area::Cmdline, words_of(line_a), words_of(line_b));
    if (line_a != line_b && out_.differences.size() == before)
      add(Area::Cmdline, Kind::Changed, "the order of words, or blanks", line_a, line_b);
    const std::string text_a = boot::bootconfig(a_.image), text_b = boot::bootconfig(b_.image);
    if (text_a == text_b) return;
    add(Area::Bootconfig, Kind::Changed, "bootconfig", fmt::format("{} bytes", text_a.size()),
        fmt::format("{} bytes", text_b.size()));
    out_.differences.back().lines = diff_lines(text_a, text_b);
  }

  void parts() {
    for (const Section& section : a_.image.sections()) {
      const Section* other = b_.image.section(section.name);
      const auto size = [](const Section* s) {
        return s == nullptr || s->bytes.empty() ? "" : fmt::format("{} bytes", s->bytes.size());
      };
      const View now = other == nullptr ? View{} : other->bytes.view();
      if (equal(section.bytes.view(), now)) continue;
      const Kind kind = section.bytes.empty() ? Kind::Added
                        : now.empty()         ? Kind::Removed
                                              : Kind::Content;
      add(Area::Part, kind, section.name, size(&section), size(other));
    }
    for (const Section& section : b_.image.sections())
      if (a_.image.section(section.name) == nullptr && !section.bytes.empty())
        add(Area::Part, Kind::Added, section.name, "",
            fmt::format("{} bytes", section.bytes.size()));
  }

  void kernels() {
    const kernel::Kernel none;
    const kernel::Kernel& a = a_.reading.kernel ? *a_.reading.kernel : none;
    const kernel::Kernel& b = b_.reading.kernel ? *b_.reading.kernel : none;
    differ(Area::Kernel, "form", a.form, b.form);
    differ(Area::Kernel, "compression", a.compression, b.compression);
    differ(Area::Kernel, "version", a.banner, b.banner);
    const Section *old = a_.image.section("kernel"), *now = b_.image.section("kernel");
    // Of another build hardly a byte is where it was.
    if (old != nullptr && now != nullptr && a.banner == b.banner &&
        !equal(old->bytes.view(), now->bytes.view()))
      compare_kernels(old->bytes, now->bytes, context_, out_.differences);
    if (a.config == b.config) return;
    add(Area::Kernel, Kind::Changed, "configuration", fmt::format("{} bytes", a.config.size()),
        fmt::format("{} bytes", b.config.size()));
    out_.differences.back().lines = diff_lines(a.config, b.config);
  }

  static std::map<std::string, std::string> trees_of(const ImageReading& reading) {
    std::map<std::string, std::string> out;
    for (const ReadTrees& trees : reading.trees)
      for (std::size_t i = 0; i < trees.blobs.size(); ++i) {
        const dt::DtBlob& blob = trees.blobs[i];
        out[fmt::format("{} {}", trees.section, i)] = fmt::format(
            "{}, {} bytes, SHA-256 {}", blob.facts.model.empty() ? "no model" : blob.facts.model,
            blob.size, sha256_hex(blob.fdt.view()).substr(0, 16));
      }
    return out;
  }

  /// Named texts of both sides, e.g. device trees or descriptors.
  void named(Area area, const std::map<std::string, std::string>& before,
             const std::map<std::string, std::string>& after) {
    for (const auto& [where, text] : before) {
      const auto other = after.find(where);
      if (other == after.end())
        add(area, Kind::Removed, where, text, "");
      else
        differ(area, where, text, other->second);
    }
    for (const auto& [where, text] : after)
      if (!before.contains(where)) add(area, Kind::Added, where, "", text);
  }

  void trees() { named(Area::DeviceTree, trees_of(a_.reading), trees_of(b_.reading)); }

  static std::vector<std::string> permissive_of(const ImageSide& side) {
    std::vector<std::string> out;
    for (const PermissiveWord& word : permissive_in(side.image, side.reading))
      out.push_back(word.where + ": " + word.word);
    return out;
  }

  void permissive() { word_sets(Area::Selinux, permissive_of(a_), permissive_of(b_)); }

  static std::map<std::string, std::string> vbmeta_of(const ImageSide& side) {
    std::map<std::string, std::string> out;
    VbmetaInfo info;
    if (side.image.kind() == "vbmeta") {
      if (auto read = vbmeta_info(side.image)) info = std::move(*read);
    } else if (auto footer = footer_info(side.loaded.bytes.view()); footer && *footer) {
      info = std::move((*footer)->vbmeta);
      out["footer"] = fmt::format("image of {} bytes", (*footer)->original_image_size);
    } else {
      return out;
    }
    out["algorithm"] = info.algorithm;
    out["public key"] = info.public_key_sha256;
    out["rollback index"] = fmt::format("{}", info.rollback_index);
    out["flags"] = fmt::format("{}", info.flags);
    for (const DescriptorInfo& one : info.descriptors) {
      const bool property = one.kind == "property" && one.values.size() == 2;
      std::string text;
      for (const auto& [name, value] : one.values)
        text += fmt::format("{}{} {}", text.empty() ? "" : ", ", name, value);
      const std::string where =
          property ? "property " + one.values[0].second : one.kind + " " + one.partition;
      out[where] = property ? one.values[1].second : text;
    }
    return out;
  }

  void vbmeta() { named(Area::Vbmeta, vbmeta_of(a_), vbmeta_of(b_)); }

  static std::string tail_text(const Image& image) {
    std::string out;
    for (const TailItem& item : tail_items(image.tail().view()))
      if (item.kind != TailKind::Zeros && item.kind != TailKind::Ones)
        out += fmt::format("{}{} of {} bytes", out.empty() ? "" : ", ", tail_name(item.kind),
                           item.size);
    return out;
  }

  void around() {
    const auto prefix = [](const Image& image) {
      return image.prefix().empty()
                 ? ""
                 : fmt::format("{}, {} bytes, SHA-256 {}", prefix::kind_of(image.prefix().view()),
                               image.prefix().size(),
                               sha256_hex(image.prefix().view()).substr(0, 16));
    };
    differ(Area::Wrapping, "before the image", prefix(a_.image), prefix(b_.image));
    differ(Area::Wrapping, "behind the image", tail_text(a_.image), tail_text(b_.image));
    differ(Area::Wrapping, "file size", fmt::format("{} bytes", out_.size_a),
           fmt::format("{} bytes", out_.size_b));
  }

  bool any(Area area, std::string_view where = {}) const {
    return std::ranges::any_of(out_.differences, [&](const Difference& d) {
      return d.area == area && (where.empty() || d.where == where);
    });
  }

  /// What a person should make of it.
  void meaning() {
    const auto say = [&](std::string text) { out_.meaning.push_back(std::move(text)); };
    const auto level_a = boot::os_version(a_.image).patch_level;
    const auto level_b = boot::os_version(b_.image).patch_level;
    if (!level_a.empty() && !level_b.empty() && level_b != level_a)
      say(fmt::format(
          "The second image's security patch level is {}: {} -> {}.",
          level_b < level_a ? "older; keys stored by the newer system may be refused" : "newer",
          level_a, level_b));
    if (any(Area::Kernel, "version"))
      say("The kernels are of different builds: modules of one do not load into the other.");
    const bool init = std::ranges::any_of(out_.differences, [](const Difference& d) {
      return d.area == Area::Ramdisk && d.where == "/init" && d.kind != Kind::Mode &&
             d.kind != Kind::Owner;
    });
    if (init) say("The first program (/init) is another one.");
    const auto journal = [](const ImageReading& side) {
      return side.find("wexlo/journal.toml").has_value();
    };
    if (journal(a_.reading) != journal(b_.reading))
      say(fmt::format("The {} image was patched by Wexlo: it carries a journal.",
                      journal(b_.reading) ? "second" : "first"));
    if (any(Area::Selinux))
      say("SELinux is concerned: words that make it permissive, or files of its policy, differ.");
    for (const Difference& d : out_.differences) {
      const bool fstab = d.area == Area::Ramdisk && d.kind == Kind::Content &&
                         is_fstab_name(d.where.substr(d.where.rfind('/') + 1));
      if (fstab)
        say(fmt::format("Mount points differ ({}): look for verification flags.", d.where));
      if (d.area == Area::Vbmeta && d.where == "flags")
        say(fmt::format("The verification flags differ: {} -> {}.", d.before, d.after));
      if (d.area == Area::Vbmeta && d.where == "public key")
        say("They are signed with different keys.");
    }
    const bool content = std::ranges::any_of(out_.differences, [](const Difference& d) {
      return d.area != Area::Vbmeta && d.area != Area::Wrapping;
    });
    if (!content && !out_.differences.empty())
      say("What a kernel gets is the same: only verified-boot data or what stands around the image "
          "differs.");
    if (out_.differences.empty() && !equal(a_.loaded.bytes.view(), b_.loaded.bytes.view()))
      say("What is in them is the same: they are packed, padded or numbered differently.");
  }

  const ImageSide& a_;
  const ImageSide& b_;
  const Context& context_;
  ImageComparison out_;
};

/// A stretch of an image that has one name.
struct NamedStretch {
  std::uint64_t begin, end;
  std::string name;
};

std::vector<NamedStretch> stretches_of(const LoadedImage& loaded) {
  const std::uint64_t size = loaded.bytes.size();
  if (!loaded.image) return {{0, size, "image"}};
  const Image& image = *loaded.image;
  std::vector<NamedStretch> out;
  std::uint64_t at = 0;
  const auto add = [&](std::uint64_t bytes, std::string name) {
    if (bytes != 0) out.push_back({at, at + bytes, std::move(name)});
    at += bytes;
  };
  add(image.prefix().size(), "prefix");
  add(image.header().size(), "header");
  for (const Section& section : image.sections()) {
    add(section.bytes.size(), section.name);
    add(section.padding.size(), "padding of " + section.name);
  }
  add(size - at, "tail");
  return out;
}

/// Where the bytes differ; a range ends where another region begins.
std::vector<DifferentRange> ranges_of(const LoadedImage& a, const LoadedImage& b) {
  constexpr std::uint64_t kJoin = 4096;
  std::vector<DifferentRange> out;
  const View left = a.bytes.view(), right = b.bytes.view();
  const std::uint64_t common = std::min(left.size(), right.size());
  for (const NamedStretch& region : stretches_of(a)) {
    const std::uint64_t end = std::min(region.end, common);
    if (region.begin >= end) continue;
    const std::uint64_t size = end - region.begin;
    for (const DifferentPlace& place :
         differing(left.subspan(region.begin, size), right.subspan(region.begin, size), kJoin))
      out.push_back({region.begin + place.offset, place.size, region.name});
  }
  const std::uint64_t longer = std::max(left.size(), right.size());
  if (longer > common) out.push_back({common, longer - common, "only in the longer image"});
  return out;
}

}  // namespace

std::string region_at(const LoadedImage& image, std::uint64_t offset) {
  if (const auto footer = verified::find_footer(image.bytes.view()); footer && *footer) {
    const verified::Footer& one = **footer;
    if (offset >= one.vbmeta_offset && offset - one.vbmeta_offset < one.vbmeta_size)
      return "verified-boot struct";
    if (offset < one.end && one.end - offset <= verified::kFooterSize)
      return "verified-boot footer";
  }
  for (const NamedStretch& region : stretches_of(image))
    if (offset >= region.begin && offset < region.end) return region.name;
  return "behind the image";
}

Result<ImageComparison> compare_images(const LoadedImage& a, const LoadedImage& b,
                                       const Context& context) {
  ImageComparison out{.size_a = a.bytes.size(), .size_b = b.bytes.size()};
  if (equal(a.bytes.view(), b.bytes.view())) return out;
  if (a.image && b.image) {
    WEXLO_TRY(ImageReading reading_a, read_deep(a, context));
    WEXLO_TRY(ImageReading reading_b, read_deep(b, context));
    const ImageSide side_a{a, *a.image, std::move(reading_a)};
    const ImageSide side_b{b, *b.image, std::move(reading_b)};
    out = Compare(side_a, side_b, context).run();
  } else {
    out.differences.push_back({Area::Part, Kind::Content, "image",
                               fmt::format("{} bytes", out.size_a),
                               fmt::format("{} bytes", out.size_b)});
  }
  out.ranges = ranges_of(a, b);
  return out;
}

}  // namespace wexlo
