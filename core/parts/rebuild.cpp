#include "parts/rebuild.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "image/boot.hpp"
#include "image/fragments.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo::parts {
namespace {

Result<std::vector<Remark>> attempt(Image& image, const Blob& stock, std::optional<DigestKind> id,
                                    const std::vector<EditedRamdisk>& edited, bool densest,
                                    std::optional<std::uint32_t> flags, const Context& context) {
  for (const EditedRamdisk& one : edited) {
    Ramdisk ramdisk = *one.ramdisk;
    if (densest)
      for (RamdiskSegment& segment : ramdisk.segments) {
        segment.framing.level = segment.framing.variant = -1;
        segment.setting_known = true;
      }
    WEXLO_TRY(Bytes encoded, encode_ramdisk(ramdisk, context));
    WEXLO_CHECK(boot::replace_ramdisk(image, one.part, Blob(std::move(encoded))));
  }
  WEXLO_CHECK(boot::refresh(image, id));
  return verified::rebuild_tail(image, stock.view(), flags);
}

/// The entries that were added or grew, largest first, as a sentence.
std::string grown(const Ramdisk& ramdisk) {
  std::vector<std::pair<std::uint64_t, std::string>> found;
  for (const RamdiskSegment& segment : ramdisk.segments) {
    if (!segment.touched) continue;
    const auto before = newc::parse(segment.decoded);
    std::map<std::string, std::uint64_t> sizes;
    if (before)
      for (const newc::Entry& entry : before->entries)
        sizes[newc::place_of(entry.name())] = entry.data().size();
    for (const newc::Entry& entry : segment.archive.entries) {
      const std::uint64_t old = sizes[newc::place_of(entry.name())];
      if (entry.data().size() > old)
        found.emplace_back(entry.data().size() - old, newc::place_of(entry.name()));
    }
  }
  std::ranges::sort(found, std::greater{});
  std::string out;
  for (std::size_t i = 0; i < std::min<std::size_t>(3, found.size()); ++i)
    out += fmt::format("{}/{} ({} bytes)", i == 0 ? "" : ", ", found[i].second, found[i].first);
  return out.empty() ? out : " What was put in: " + out + ".";
}

/// How small other formats would make the first touched stream, told from its first bytes.
std::string other_formats(const Ramdisk& ramdisk) {
  const auto at = std::ranges::find_if(ramdisk.segments, &RamdiskSegment::touched);
  if (at == ramdisk.segments.end()) return {};
  constexpr std::size_t kSample = 1u << 20;
  const Bytes content = newc::write(at->archive);
  const View sample = View(content).first(std::min(kSample, content.size()));
  const auto own = encode(at->compression, sample);
  if (!own || own->empty()) return {};
  std::string out;
  for (const Compression kind : {Compression::Xz, Compression::Zstd, Compression::Gzip}) {
    if (kind == at->compression) continue;
    const auto other = encode(kind, sample);
    if (!other || other->size() >= own->size()) continue;
    const auto percent = 100 - 100 * other->size() / own->size();
    out += fmt::format("{}{} about {} %", out.empty() ? "" : ", ", compression_name(kind), percent);
  }
  if (out.empty()) return {};
  return fmt::format(
      " Against {}, {} less would be taken by: {}; only for a kernel that is known "
      "to read it.",
      compression_name(at->compression), "of the same content", out);
}

}  // namespace

Result<std::vector<Remark>> rebuild(Image& image, const Blob& stock, std::optional<DigestKind> id,
                                    const std::vector<EditedRamdisk>& edited,
                                    const Context& context, std::optional<std::uint32_t> flags) {
  const Image before = image;
  auto notes = attempt(image, stock, id, edited, false, flags, context);
  if (notes || notes.error().code != ErrorCode::DoesNotFit) return notes;
  Error error = std::move(notes).error();
  if (edited.empty()) return fail(std::move(error));
  image = before;
  notes = attempt(image, stock, id, edited, true, flags, context);
  if (notes) {
    notes->push_back(
        "The ramdisk was packed denser than the stock one: else the image would not "
        "have fitted its partition.");
    return notes;
  }
  if (notes.error().code == ErrorCode::DoesNotFit) error = std::move(notes).error();
  for (const EditedRamdisk& one : edited)
    error.hint += grown(*one.ramdisk) + other_formats(*one.ramdisk);
  return fail(std::move(error));
}

}  // namespace wexlo::parts
