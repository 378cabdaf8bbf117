#include "kit/verdict/pages_judge.hpp"

#include "ramdisk/layout.hpp"
#include "ramdisk/ramdisk.hpp"

namespace wexlo {
namespace {

constexpr std::uint32_t kUsualPage = 4096;

Result<std::uint32_t> page_size(StockImages& stock, const Context& context) {
  for (const std::string_view name : kernel_partitions()) {
    WEXLO_TRY(const LoadedImage* const image, stock.get(std::string(name), context));
    if (image == nullptr || image->decoded == nullptr) continue;
    WEXLO_TRY(const ReadKernel kernel, image->decoded->kernel(context));
    if (kernel) return kernel->page_size;
  }
  return 0;
}

Result<ReadRamdisks> ramdisks_of(const LoadedImage* image, const Context& context) {
  if (image == nullptr || image->decoded == nullptr)
    return std::make_shared<const std::vector<ReadRamdisk>>();
  return image->decoded->ramdisks(context);
}

bool has_the_same(const std::vector<ReadRamdisk>& stock, std::string_view place, View content) {
  for (const ReadRamdisk& one : stock) {
    const auto at = one.ramdisk ? find_entry(*one.ramdisk, place) : std::optional<EntryAt>();
    if (at && equal(content_of(*one.ramdisk, *at).view(), content)) return true;
  }
  return false;
}

void judge_ramdisk(const Ramdisk& ramdisk, const std::vector<ReadRamdisk>& stock,
                   std::uint32_t pages, const std::string& partition, std::vector<Finding>& out) {
  for (const RamdiskSegment& segment : ramdisk.segments)
    for (const newc::Entry& entry : segment.archive.entries) {
      const std::string place = newc::place_of(entry.name());
      const auto at = find_entry(ramdisk, place);
      if (entry.type() != newc::Regular || !at) continue;
      const Blob content = content_of(ramdisk, *at);
      std::string trouble = pages_trouble(place, content.view(), pages);
      if (!trouble.empty() && !has_the_same(stock, place, content.view()))
        out.push_back(usual_finding(FindingCode::ProgramPages, std::move(trouble), partition));
    }
}

}  // namespace

Result<std::vector<Finding>> judge_pages(const KitImages& images, StockImages& stock,
                                         const Context& context) {
  std::vector<Finding> out;
  WEXLO_TRY(const std::uint32_t pages, page_size(stock, context));
  if (pages <= kUsualPage) return out;
  for (const KitImage& one : images) {
    if (!one.written || !one.is_held() || one.patched.entries.empty()) continue;
    WEXLO_TRY(const LoadedImage* const own, stock.get(one.partition, context));
    WEXLO_TRY(const ReadRamdisks before, ramdisks_of(own, context));
    WEXLO_TRY(const LoadedImage image, load_image(one.patched.bytes, one.partition));
    WEXLO_TRY(const ReadRamdisks now, ramdisks_of(&image, context));
    for (const ReadRamdisk& ramdisk : *now)
      if (ramdisk.ramdisk) judge_ramdisk(*ramdisk.ramdisk, *before, pages, one.partition, out);
  }
  return out;
}

}  // namespace wexlo
