#include "diagnose/image_differences.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/contains.hpp"
#include "codec/codec.hpp"
#include "image/kernel.hpp"
#include "ramdisk/mount_tables.hpp"

namespace wexlo {
namespace {

class Differences {
 public:
  Differences(const Subject& one, const Subject& stock, const Joined& joined)
      : one_(one), stock_(stock), joined_(joined) {}

  EvidenceList run() {
    if (one_.image() == nullptr || stock_.image() == nullptr) return {};
    kernel_packing();
    skip_word();
    mounts();
    builds();
    return std::move(out_);
  }

 private:
  void add(Cause cause, int weight, std::string text) {
    out_.push_back({cause, weight, std::move(text), one_.partition});
  }

  static std::optional<kernel::Body> body_of(const Subject& one) {
    const Section* section = one.image()->section("kernel");
    if (section == nullptr || section->bytes.empty()) return std::nullopt;
    auto body = kernel::open_body(section->bytes);
    if (!body) return std::nullopt;
    return std::move(*body);
  }

  /// Loaders unpack what their maker packed: another form, or a form without its size word, stops.
  void kernel_packing() {
    const auto now = body_of(one_), before = body_of(stock_);
    if (!now || !before) return;
    if (now->compression != before->compression)
      add(Cause::KernelPacking, 30,
          fmt::format("the kernel is packed as {}, stock as {}", compression_name(now->compression),
                      compression_name(before->compression)));
    else if (before->framing.size_trailer && !now->framing.size_trailer)
      add(Cause::KernelPacking, 50, "the kernel's stream has lost the size word behind it");
  }

  /// The kernel skips boot's ramdisk, and something was put into it.
  void skip_word() {
    const auto now = body_of(one_);
    if (!now || kernel::whole_words(now->decoded.view(), kernel::kSkipWord).empty() ||
        !ramdisk_changed())
      return;
    const auto version = one_.image()->layout().version;
    constexpr unsigned kGenericFrom = 3;
    if (version >= kGenericFrom) return;
    add(Cause::SkipWord, 35,
        fmt::format("the kernel still holds {}, and the ramdisk beside it was changed",
                    kernel::kSkipWord));
  }

  [[nodiscard]] bool ramdisk_changed() const {
    const Section* now = one_.image()->section("ramdisk");
    const Section* before = stock_.image()->section("ramdisk");
    return now != nullptr && before != nullptr && !equal(now->bytes.view(), before->bytes.view());
  }

  using Mounts = std::vector<std::string>;
  static Mounts mounts_of(const Ramdisk& ramdisk) {
    Mounts out;
    for (FstabRow& row : mount_rows(ramdisk))
      out.push_back(std::move(row.mount_point));
    return out;
  }
  static Mounts mounts_of(const Subject& one) {
    Mounts out;
    for (const ReadRamdisk& ramdisk : one.reading.ramdisks)
      if (ramdisk.ramdisk) std::ranges::move(mounts_of(*ramdisk.ramdisk), std::back_inserter(out));
    return out;
  }

  void mounts() {
    const Mounts now = mounts_of(one_), before = mounts_of(stock_);
    for (const std::string& point : before)
      if (!contains(now, point))
        add(Cause::MountTableLacks, 45,
            fmt::format("the mount table has no line for {} any more", point));
    Mounts all;
    for (const Ramdisk* ramdisk : joined_.parts)
      std::ranges::move(mounts_of(*ramdisk), std::back_inserter(all));
    if (all.empty()) return;
    for (const std::string& point : wanted())
      if (!contains(all, point))
        add(Cause::MountTableLacks, 40,
            fmt::format("what was put in uses {}, and no mount table has it", point));
  }

  /// Places on partitions of their own that texts name which stock does not have.
  [[nodiscard]] Mounts wanted() const {
    constexpr std::string_view kPoints[] = {
        "/metadata", "/cache", "/persist", "/mnt/vendor/persist",
        "/efs",      "/odm",   "/product", "/system_ext"};
    Mounts out;
    for (const ReadRamdisk& ramdisk : one_.reading.ramdisks) {
      if (!ramdisk.ramdisk) continue;
      for (std::size_t s = 0; s < ramdisk.ramdisk->segments.size(); ++s) {
        const auto& entries = ramdisk.ramdisk->segments[s].archive.entries;
        for (std::size_t i = 0; i < entries.size(); ++i) {
          const std::string place(newc::place_of(entries[i].name()));
          if (place.starts_with("wexlo/") || is_fstab_name(place) || stock_.reading.find(place))
            continue;
          const Blob bytes = content_of(*ramdisk.ramdisk, {s, i});
          constexpr std::size_t kLargest = 256u << 10;
          const std::string_view text = as_text(bytes.view());
          if (text.size() > kLargest || text.find('\0') != text.npos) continue;
          for (const std::string_view point : kPoints)
            if (text.find(std::string(point) + "/") != text.npos && !contains(out, point))
              out.emplace_back(point);
        }
      }
    }
    return out;
  }

  /// Brand/product/device: of a sibling the device may be the same, and the product another.
  static std::string_view product_of(std::string_view fingerprint) {
    return fingerprint.substr(0, fingerprint.find(':'));
  }

  void builds() {
    const std::string now = one_.build_property("fingerprint"),
                      before = stock_.build_property("fingerprint");
    if (now.empty() || before.empty() || now == before) return;
    if (product_of(now) != product_of(before))
      add(Cause::OtherVariant, 50,
          fmt::format("it says that it is for {}, stock is for {}", product_of(now),
                      product_of(before)));
    else
      add(Cause::OtherBuild, 45, fmt::format("it is of the build {}, stock is {}", now, before));
  }

  const Subject& one_;
  const Subject& stock_;
  const Joined& joined_;
  EvidenceList out_;
};

}  // namespace

EvidenceList differences_of(const Subject& one, const Subject& stock, const Joined& joined) {
  return Differences(one, stock, joined).run();
}

}  // namespace wexlo
