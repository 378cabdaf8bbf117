/// Rules that look at one image's own form: header, sections, kernel, what stands around it.

#include <fmt/format.h>

#include <algorithm>

#include "image/boot.hpp"
#include "image/kernel.hpp"
#include "image/load_areas.hpp"
#include "image/part_header.hpp"
#include "image/prefix.hpp"
#include "image/sealed_block.hpp"
#include "image/tail.hpp"
#include "judge/subject.hpp"
#include "verified/chain.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {
namespace {

/// Bytes that a version's header_size has to say; 0: the version has no such field.
std::uint64_t right_header_size(const Image& image) {
  if (image.layout().field("header_size") == nullptr) return 0;
  const unsigned version = image.layout().version;
  if (image.kind() == "vendor_boot") return version == 3 ? 2112 : 2128;
  constexpr std::uint64_t sizes[] = {0, 1648, 1660, 1580, 1584};
  return version < std::size(sizes) ? sizes[version] : 0;
}

bool is_bounds_trouble(const Error& error) {
  return error.code == ErrorCode::Truncated || error.code == ErrorCode::OutOfRange ||
         error.code == ErrorCode::BadValue;
}

class FormRules {
 public:
  FormRules(const Subject& one, const Subject* stock, Report& report)
      : one_(one), stock_(stock), report_(report) {}

  void run() {
    if (one_.trouble) return unread();
    if (one_.image() == nullptr) return;
    const Image& image = *one_.image();
    if (image.kind() == "vbmeta") return;
    header(image);
    sizes(image);
    trees(image);
    if (boot::id_matches(image) == false && !all_bytes(image.raw("id"), std::byte{0}))
      add(FindingCode::IdDigest,
          "The id in the header follows no known recipe, or is stale: loaders do not look at it.");
    kernel(image);
    wrappings(image);
  }

 private:
  void add(FindingCode code, std::string message, std::optional<Level> level = {}) {
    report_.add(code, one_.partition, std::move(message), one_.untouched, level);
  }

  void unread() {
    const Error& why = *one_.trouble;
    const bool table = why.section == boot::kFragmentTable;
    std::string text = fmt::format("{} does not read: {}", one_.name, why.message);
    if (why.offset) text += fmt::format(" at {}", hex_value(*why.offset));
    if (!why.expected.empty()) text += fmt::format(": expected {}", why.expected);
    if (!why.found.empty()) text += fmt::format(", found {}", why.found);
    add(table                    ? FindingCode::FragmentTable
        : is_bounds_trouble(why) ? FindingCode::SectionBounds
                                 : FindingCode::HeaderForm,
        text + ".");
  }

  void header(const Image& image) {
    const std::uint64_t right = right_header_size(image), is = image.number("header_size");
    if (right != 0 && is != right)
      add(FindingCode::HeaderForm,
          fmt::format("header_size is {}, version {} has {}.", is, image.layout().version, right),
          Level::Warning);
  }

  void sizes(const Image& image) {
    const std::uint64_t size = one_.source->size();
    if (stock_ != nullptr && stock_->source != nullptr) {
      const std::uint64_t room = stock_->source->size();
      const auto footer = find_struct(*stock_->source);
      // A stock image with a footer is exactly as long as its partition.
      if (footer && size > room)
        add(FindingCode::PartitionSize,
            fmt::format("{} bytes do not fit the partition's {}.", size, room));
      else if (footer && size != room)
        add(FindingCode::FileLength,
            fmt::format("{} bytes, the partition has {}: a footer would stand in the wrong place.",
                        size, room));
    }
    const bool paged = image.kind() == "boot" || image.kind() == "vendor_boot";
    // What a maker put behind a footer is no part of the image.
    const std::uint64_t end = footer_end().value_or(size);
    if (end < size)
      add(FindingCode::FileLength,
          fmt::format("{} bytes stand behind the verified-boot footer: a loader finds the footer "
                      "only where the partition ends with it.",
                      size - end),
          Level::Note);
    if (paged && end % image.page() != 0)
      add(FindingCode::FileLength,
          fmt::format("{} bytes are not whole pages of {}.", end, image.page()));
  }

  /// Where the image's own footer ends; nullopt: it has none.
  std::optional<std::uint64_t> footer_end() const {
    const auto footer = verified::read_footer(*one_.source);
    return footer && *footer ? std::optional((*footer)->end) : std::nullopt;
  }

  static bool find_struct(const Source& source) {
    const auto place = verified::find_struct(source, "boot");
    return place && *place;
  }

  void trees(const Image& image) {
    const Section* dtbo = image.section("recovery_dtbo");
    if (dtbo != nullptr && !dtbo->bytes.empty()) {
      const std::uint64_t says = image.number("recovery_dtbo_offset");
      const std::uint64_t is = dtbo->offset - image.prefix().size();
      if (says != is)
        add(FindingCode::TreeSection,
            fmt::format("recovery_dtbo_offset says {}, the section begins at {}.", hex_value(says),
                        hex_value(is)));
    }
    const Section* dtb = image.section("dtb");
    const bool needs = image.kind() == "boot" && image.layout().version == 2;
    if (needs && (dtb == nullptr || dtb->bytes.empty()))
      add(FindingCode::TreeSection, "There is no dtb: header version 2 demands one.");
    else if (needs && dt::form_of(dtb->bytes.view()) == dt::Form::None)
      add(FindingCode::TreeSection, "The dtb section holds no device tree that is known.");
  }

  void kernel(const Image& image) {
    const bool boot = image.kind() == "boot";
    const Section* section = image.section("kernel");
    const bool there = section != nullptr && !section->bytes.empty();
    const bool needs = boot && (one_.partition == "boot" || one_.partition == "recovery");
    // A recovery of the newer versions takes its kernel from boot.
    const bool own = !(one_.partition == "recovery" && image.layout().version >= 3);
    if (needs && own && !there) return add(FindingCode::Kernel, "There is no kernel.");
    if (!there || !one_.reading.kernel) return;
    const kernel::Kernel& kernel = *one_.reading.kernel;
    if (!kernel.trouble.empty())
      return add(FindingCode::Kernel,
                 fmt::format("The kernel does not decode: {}.", kernel.trouble));
    if (kernel.form == "unknown") {
      report_.cannot_tell("the kernel is of a form that is not known");
      return add(FindingCode::Kernel,
                 "The kernel is of a form that is not known: nothing can be said of it.",
                 Level::Warning);
    }
    if (kernel.banner.empty())
      add(FindingCode::Kernel, "No version banner was found in the kernel.", Level::Warning);
  }

  void wrappings(const Image& image) {
    const View prefix = image.prefix().view();
    if (!prefix.empty() && one_.loaded) {
      const auto is_true =
          prefix::is_true(prefix, one_.loaded->bytes.view().subspan(prefix.size()));
      if (is_true == false)
        add(FindingCode::MakerPrefix,
            fmt::format("The {} before the image says another length or digest than it has.",
                        prefix::kind_of(prefix)));
    }
    if (one_.loaded) behind(image);
    if (const Section* kernel = image.section("kernel"))
      part("kernel", part_header::split(kernel->bytes));
    for (const ReadRamdisk& one : one_.reading.ramdisks)
      part(one.part.title(), {one.part.header, one.part.bytes, one.part.rest});
  }

  void behind(const Image& image) {
    const View bytes = one_.loaded->bytes.view();
    const std::uint64_t from = footer_end().value_or(image.sections_end());
    const auto block = sealed_block::find(bytes, from);
    if (block && !block->valid)
      add(FindingCode::MakerPrefix,
          "The sealed block behind the image says another length or digest than it has.");
  }

  void part(const std::string& name, const part_header::Split& split) {
    if (split.header.empty()) return;
    const std::uint32_t says = part_header::payload_size(split.header.view());
    if (says != split.payload.size())
      add(FindingCode::MakerPrefix,
          fmt::format("The part header before the {} says {} bytes, {} follow.", name, says,
                      split.payload.size()));
  }

  const Subject& one_;
  const Subject* stock_;
  Report& report_;
};

/// Compares an image with the stock one that it takes the place of.
class StockRules {
 public:
  StockRules(const Subject& one, const Subject& stock, Report& report)
      : one_(one), stock_(stock), report_(report), image_(*one.image()), old_(*stock.image()) {}

  void run() {
    appended();
    prefixes();
    trailer();
    identity();
    areas();
    levels();
    build();
  }

 private:
  void add(FindingCode code, std::string message) {
    report_.add(code, one_.partition, std::move(message));
  }

  static std::vector<std::string> models(const Subject& one, std::string_view section) {
    std::vector<std::string> out;
    for (const ReadTrees& trees : one.reading.trees)
      if (trees.section == section)
        for (const dt::DtBlob& blob : trees.blobs)
          out.push_back(blob.facts.model + "|" +
                        (blob.facts.compatible.empty() ? "" : blob.facts.compatible.front()));
    return out;
  }

  void appended() {
    const auto now = models(one_, "kernel"), before = models(stock_, "kernel");
    if (now.size() != before.size())
      add(FindingCode::AppendedTrees,
          fmt::format("{} device trees follow the kernel, {} in the stock image.", now.size(),
                      before.size()));
    else if (now != before)
      add(FindingCode::AppendedTrees,
          "The device trees behind the kernel are others than the stock image's, or in another "
          "order.");
  }

  void prefixes() {
    const auto kind = [](const Image& image) {
      return image.prefix().empty() ? std::string_view("nothing")
                                    : prefix::kind_of(image.prefix().view());
    };
    if (kind(image_) != kind(old_))
      add(FindingCode::MakerPrefix,
          fmt::format("Before the image stands {}, before the stock one {}.", kind(image_),
                      kind(old_)));
    const auto wrapped = [](const Subject& one) {
      std::string out = one.reading.kernel ? one.reading.kernel->wrapping : "";
      for (const ReadRamdisk& ramdisk : one.reading.ramdisks)
        if (!ramdisk.part.header.empty())
          out += " + ramdisk " + part_header::name_of(ramdisk.part.header.view());
      return out.empty() ? std::string("none") : out;
    };
    if (wrapped(one_) != wrapped(stock_))
      add(FindingCode::MakerPrefix, fmt::format("Headers before parts: {}, in the stock image {}.",
                                                wrapped(one_), wrapped(stock_)));
  }

  static std::optional<std::uint64_t> trailer_at(const Image& image) {
    for (const TailItem& item : tail_items(image.tail().view()))
      if (item.kind == TailKind::EnforcingTrailer) return item.offset;
    return std::nullopt;
  }

  void trailer() {
    if (!trailer_at(old_)) return;
    const auto now = trailer_at(image_);
    if (!now)
      add(FindingCode::EnforcingTrailer,
          "The enforcing trailer of the stock image is gone: the phone shows "
          "a warning, or refuses the image.");
    else if (*now != 0)
      add(FindingCode::EnforcingTrailer,
          fmt::format("The enforcing trailer stands {} bytes behind the last section.", *now));
  }

  void identity() {
    for (const char* field : {"name", "kernel_addr", "ramdisk_addr", "second_addr", "tags_addr",
                              "dtb_addr", "page_size"}) {
      if (equal(image_.raw(field), old_.raw(field))) continue;
      const bool text = std::string_view(field) == "name";
      const auto shown = [&](const Image& image) {
        return text ? std::string(until_nul(image.raw(field))) : hex_value(image.number(field));
      };
      add(FindingCode::DeviceIdentity,
          fmt::format("{} is {}, in the stock image {}.", field, shown(image_), shown(old_)));
    }
    if (image_.kind() == "vendor_boot" && boot::cmdline(image_) != boot::cmdline(old_))
      add(FindingCode::DeviceIdentity,
          fmt::format("The vendor command line is \"{}\", stock \"{}\".", boot::cmdline(image_),
                      boot::cmdline(old_)));
    for (const char* section : {"dtb", "entries", "dt"})
      if (models(one_, section) != models(stock_, section))
        add(FindingCode::DeviceIdentity,
            "The device trees are for other hardware than the stock image's.");
  }

  void areas() {
    for (const std::string& pair : boot::new_load_overlaps(image_, old_))
      add(FindingCode::LoadOverlap,
          fmt::format(
              "Where the header puts them, {} overlap, which they do not in the stock image.",
              pair));
  }

  void lower(FindingCode code, std::string_view what, const std::string& now,
             const std::string& before) {
    if (!now.empty() && !before.empty() && now < before)
      add(code, fmt::format("{} {} is older than the stock image's {}: the key store may refuse "
                            "keys, and data be lost.",
                            what, now, before));
  }

  void levels() {
    const auto now = boot::os_version(image_), before = boot::os_version(old_);
    lower(FindingCode::PatchLevel, "Security patch level", now.patch_level, before.patch_level);
    lower(FindingCode::PatchLevel, "Security patch level (of the footer)",
          one_.build_property("security_patch"), stock_.build_property("security_patch"));
    const auto packed = [](const Image& image) { return image.number("os_version") >> 11; };
    if (packed(image_) != 0 && packed(image_) < packed(old_))
      add(FindingCode::OsVersion,
          fmt::format("System version {} is older than the stock image's {}: the key "
                      "store may refuse keys, and data be lost.",
                      now.version, before.version));
  }

  void build() {
    const std::string now = one_.build_property("fingerprint");
    const std::string before = stock_.build_property("fingerprint");
    if (!now.empty() && !before.empty() && now != before)
      add(FindingCode::SlotState,
          fmt::format("The image is of build {}, the others of its slot of {}.", now, before));
  }

  const Subject& one_;
  const Subject& stock_;
  Report& report_;
  const Image& image_;
  const Image& old_;
};

}  // namespace

void judge_form(const Subject& one, const Subject* stock, Report& report) {
  FormRules(one, stock, report).run();
  if (one.image() == nullptr) return;
  // The header packs year and month, the footer's property has the whole date.
  const std::string level = boot::os_version(*one.image()).patch_level;
  const std::string property = one.build_property("security_patch");
  if (!level.empty() && !property.empty() && !property.starts_with(level.substr(0, 7)))
    report.add(
        FindingCode::PatchLevel, one.partition,
        fmt::format("The header says security patch level {}, the footer {}.", level, property),
        one.untouched);
}

void judge_against_stock(const Subject& one, const Subject& stock, Report& report) {
  if (one.image() == nullptr || stock.image() == nullptr) return;
  if (one.image()->kind() == "vbmeta" || one.image()->kind() != stock.image()->kind()) return;
  StockRules(one, stock, report).run();
}

}  // namespace wexlo
